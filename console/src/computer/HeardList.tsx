import { useState } from "react";
import { Link } from "react-router";
import { useAddAddress, useDropAddress, useIntroduce, useIntroduction, useNetwork } from "../api/network";
import type { NetworkEntry } from "../api/types";
import { Field } from "../parts/Field";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { whereText } from "../parts/where";
import { WordsForm } from "../parts/WordsForm";
import { LoginForm } from "./LoginForm";
import { useOwner } from "../api/owner";

/** What announces itself on the networks of the computer, and what each is taken for. */
export function HeardList() {
  const network = useNetwork();
  const items = network.data?.items ?? [];
  return (
    <section aria-label="Heard on the network" className="mt-9">
      <h2 className="text-section font-semibold">Heard on the network</h2>
      <ProblemText error={network.error} />
      {network.data && items.length === 0 && (
        <p className="mt-1 text-secondary">Nothing. A device must be awake, and on one of this computer’s networks.</p>
      )}
      {items.length > 0 && (
        <table className="mt-2 w-full text-row">
          <thead className="text-left text-caption text-secondary">
            <tr>
              <th className="font-normal">name</th>
              <th className="font-normal">family</th>
              <th className="font-normal">where</th>
              <th className="font-normal">taken for</th>
            </tr>
          </thead>
          <tbody>
            {items.map((e) => (
              <HeardRow key={e.name} entry={e} />
            ))}
          </tbody>
        </table>
      )}
      <OwnerOnly what="Add the address of a device" command="earlybench network add ADDRESS">
        <AddAddress />
      </OwnerOnly>
    </section>
  );
}

function HeardRow({ entry }: { entry: NetworkEntry }) {
  const owner = useOwner();
  const drop = useDropAddress();
  return (
    <tr className="border-t border-base-300 align-baseline">
      <td className="py-1 pr-3 whitespace-nowrap">{entry.name}</td>
      <td className="py-1 pr-3 text-secondary">{entry.family || "not announced"}</td>
      <td className={`min-w-24 py-1 pr-3 ${entry.through === "" ? "mono break-all" : ""}`}>
        {entry.through === "" ? entry.addresses.join(" ") : whereText(entry)}
      </td>
      <td className="py-1">
        <TakenFor entry={entry} />
        {entry.given && owner && (
          <button type="button" className="press press-small ml-2" onClick={() => drop.mutate(entry.name)}>
            Forget {entry.addresses[0]}
          </button>
        )}
        <ProblemText error={drop.error} />
      </td>
    </tr>
  );
}

function TakenFor({ entry }: { entry: NetworkEntry }) {
  const introduce = useIntroduce();
  const going = useIntroduction().data;
  if (entry.device !== "")
    return (
      <Link className="link" to={`/devices/${entry.device}`}>
        {entry.device}
      </Link>
    );
  if (entry.state === "other version") return <>another version of the device link</>;
  if (entry.login !== "" && entry.state === "not met")
    return (
      <>
        a device that is not on the rack
        <LoginForm entry={entry} />
      </>
    );
  if (entry.state === "silent") return <>nobody: {entry.trouble || "finding out who is there"}</>;
  const own = going?.name === entry.name ? going : undefined;
  if (own?.state === "words") return <WordsForm going={own} name={own.says.name || entry.name} />;
  if (own?.state === "asking") return <>The words are correct. Let {own.bench} in on the device.</>;
  return (
    <>
      a device that was not introduced{" "}
      <button
        type="button"
        className="press press-small ml-2"
        disabled={introduce.isPending}
        onClick={() => introduce.mutate({ name: entry.name })}
      >
        Introduce {entry.name}
      </button>
      {own?.error && (
        <p role="alert" className="mt-1">
          {own.error.detail} {own.error.remedy}
        </p>
      )}
      <ProblemText error={introduce.error} />
    </>
  );
}

function AddAddress() {
  const [address, setAddress] = useState("");
  const add = useAddAddress();
  return (
    <form
      className="mt-2"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate(address, { onSuccess: () => setAddress("") });
      }}
    >
      <Field
        label="Address of a device"
        hint="host and port, such as 192.168.7.21:4022; of a board with an SSH server ssh://USER@HOST"
        value={address}
        onChange={setAddress}
      />
      <button type="submit" className="press mt-2" disabled={add.isPending || address.trim() === ""}>
        Find out who is there
      </button>
      <ProblemText error={add.error} />
    </form>
  );
}
