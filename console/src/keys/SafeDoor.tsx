import { useState } from "react";
import { useLockSafe, useMakeSafe, useUnlockSafe } from "../api/safe";
import type { Safe } from "../api/types";
import { CommandLine } from "../parts/CommandLine";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { SecretField } from "../parts/SecretField";
import { clockText } from "../parts/time";

/** How the safe is made, opened and locked. */
export function SafeDoor({ safe }: { safe: Safe }) {
  return (
    <section aria-label="Safe">
      <h2 className="text-section font-semibold">Safe</h2>
      {safe.state === "missing" && (
        <>
          <p className="max-w-prose text-row text-secondary">
            Private keys and secrets are kept here, encrypted on this computer. A key never leaves the safe: signing
            happens inside it.
          </p>
          <OwnerOnly what="Make the safe" command="earlybench safe make">
            <MakeSafe />
          </OwnerOnly>
        </>
      )}
      {safe.state === "locked" && (safe.by_passphrase ? <Unlock /> : <UnlockByKey />)}
      {safe.state === "open" && <Lock safe={safe} />}
    </section>
  );
}

function MakeSafe() {
  const [one, setOne] = useState("");
  const [two, setTwo] = useState("");
  const make = useMakeSafe();
  return (
    <form
      aria-label="Make the safe"
      className="mt-2 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        make.mutate(one);
      }}
    >
      <SecretField label="New passphrase" not="8 characters or more" value={one} onChange={setOne} />
      <SecretField label="Repeat it" value={two} onChange={setTwo} />
      <p className="max-w-prose text-caption text-secondary">
        There is no way in without it, and nobody else knows it.
      </p>
      <button type="submit" className="press" disabled={make.isPending || one === "" || one !== two}>
        Make the safe
      </button>
      {two !== "" && one !== two && <p className="text-row">The two differ.</p>}
      <ProblemText error={make.error} />
    </form>
  );
}

function Unlock() {
  const [typed, setTyped] = useState("");
  const unlock = useUnlockSafe();
  return (
    <form
      aria-label="Unlock the safe"
      className="mt-1 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        unlock.mutate(typed, { onSettled: () => setTyped("") });
      }}
    >
      <SecretField
        label="Passphrase of this safe"
        not="not your account’s or a device’s"
        value={typed}
        onChange={setTyped}
      />
      <button type="submit" className="press" disabled={unlock.isPending || typed === ""}>
        {unlock.isPending ? "Opening it…" : "Unlock"}
      </button>
      <ProblemText error={unlock.error} />
    </form>
  );
}

const UnlockByKey = () => (
  <p className="max-w-prose text-row">
    It is opened with an unlock key, a file on the bench’s computer:{" "}
    <CommandLine>earlybench safe unlock --key-file FILE</CommandLine>
  </p>
);

function Lock({ safe }: { safe: Safe }) {
  const lock = useLockSafe();
  return (
    <>
      <p className="text-row">
        {safe.locks
          ? `It is open. It locks at ${clockText(safe.locks)} if nobody uses it.`
          : "It is open until somebody locks it."}
      </p>
      <button type="button" className="press press-small mt-2" disabled={lock.isPending} onClick={() => lock.mutate()}>
        Lock it now
      </button>
      <ProblemText error={lock.error} />
    </>
  );
}
