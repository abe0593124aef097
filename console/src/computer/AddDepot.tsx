import { useState } from "react";
import { useAddDepot, useLookAtDepot } from "../api/supply";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";

/** Looks at a depot, shows who it is, and adds it once that was accepted. */
export function AddDepot() {
  const [url, setURL] = useState("");
  const look = useLookAtDepot();
  const add = useAddDepot();
  const found = look.data;
  const change = (value: string) => {
    setURL(value);
    look.reset();
  };
  return (
    <form
      aria-label="Add a depot"
      className="mt-2 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (found) add.mutate({ url: found.url, accept: found.accept }, { onSuccess: () => change("") });
        else look.mutate(url);
      }}
    >
      <Field label="Its address" hint="such as https://depot.example/" value={url} onChange={change} required />
      {found && (
        <dl aria-label="Who the depot is" className="text-row">
          <dt className="text-secondary">Calls itself</dt>
          <dd>
            {found.name}, {found.offers} offers
          </dd>
          <dt className="mt-1 text-secondary">
            TLS root{found.root !== "" && (found.root_known ? ", which this computer trusts" : ", not known here yet")}
          </dt>
          <dd className="mono break-all">{found.root || "none: it is on this computer"}</dd>
          <dt className="mt-1 text-secondary">Publisher {found.signer}, key</dt>
          <dd className="mono break-all">{found.publisher}</dd>
        </dl>
      )}
      <button type="submit" className="press press-small" disabled={look.isPending || add.isPending}>
        {found ? "Accept both and add it" : "Look at it"}
      </button>
      <ProblemText error={look.error ?? add.error} />
    </form>
  );
}
