import { useState } from "react";
import { useIdentities, useMakeIdentity, useRenewIdentity } from "../api/belong";
import type { Identity } from "../api/types";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";
import { dayText } from "../parts/time";

const states: Record<Identity["state"], string> = {
  good: "key in this safe",
  ending: "ends soon; it is renewed automatically while the safe is open",
  ended: "has ended",
  revoked: "revoked",
  elsewhere: "certificate only; its key is on another computer",
};

/** The signing identities; a new one is made here. */
export function IdentityList({ bench, signedIn }: { bench: string; signedIn: boolean }) {
  const identities = useIdentities();
  const renew = useRenewIdentity();
  return (
    <section aria-label="Signing identities" className="mt-8">
      <h2 className="text-section font-semibold">Signing identities</h2>
      <ProblemText error={identities.error ?? renew.error} />
      <ul className="mt-1">
        {identities.data?.items.map((i) => (
          <li key={i.serial} className="flex items-baseline gap-3 border-b border-base-300 py-2 text-row">
            <span className="min-w-0 flex-1">
              <b className="font-semibold">{i.name}</b>
              <span className="block text-caption text-secondary">{states[i.state]}</span>
            </span>
            <span className="text-secondary">{dayText(i.ends)}</span>
            {(i.state === "good" || i.state === "ending") && i.authority !== "" && (
              <button
                type="button"
                className="press press-small"
                aria-label={`Renew ${i.name}`}
                disabled={renew.isPending}
                onClick={() => renew.mutate(i.name)}
              >
                Renew
              </button>
            )}
          </li>
        ))}
      </ul>
      {identities.data?.items.length === 0 && (
        <p className="text-row text-secondary">None yet. An identity signs apps in the name of your crew.</p>
      )}
      {signedIn && identities.data && (
        <NewIdentity proposed={identities.data.items.length === 0 ? `${bench} ${new Date().getFullYear()}` : ""} />
      )}
      {!signedIn && <p className="text-row text-secondary">To make one, sign in at an authority first.</p>}
    </section>
  );
}

function NewIdentity({ proposed }: { proposed: string }) {
  const [name, setName] = useState(proposed);
  const make = useMakeIdentity();
  return (
    <form
      aria-label="New identity"
      className="mt-3 space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        make.mutate(name, { onSuccess: () => setName("") });
      }}
    >
      <Field label="Name of a new identity" value={name} onChange={setName} required />
      <button type="submit" className="press press-small" disabled={make.isPending}>
        Make a key and get its certificate
      </button>
      <ProblemText error={make.error} />
    </form>
  );
}
