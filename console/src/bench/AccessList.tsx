import { useAccess, useDropAccess, useOwner } from "../api/owner";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { headerText } from "../parts/time";
import { AddAccess } from "./AddAccess";

/** The keys with which programs use the bench. Only the owner sees and makes them. */
export function AccessList() {
  const owner = useOwner();
  const keys = useAccess(owner !== undefined);
  const drop = useDropAccess();
  return (
    <section aria-label="Access keys" className="mt-8">
      <h2 className="text-section font-semibold">Access keys</h2>
      <OwnerOnly what="Show and make access keys" command="earlybench access">
        <ProblemText error={keys.error ?? drop.error} />
        {keys.data?.items.length === 0 && (
          <p className="mt-1 text-secondary">None yet. A pipeline uses the bench with one.</p>
        )}
        <ul className="mt-1">
          {keys.data?.items.map((k) => (
            <li key={k.name} className="flex items-baseline gap-3 py-1.5 text-row">
              <span className="min-w-0 flex-1">
                <b className="font-semibold">{k.name}</b> may {k.rights.join(", ")}
                <span className="block text-caption text-secondary">
                  {k.over ? "has ended" : `until ${headerText(k.ends)}`}
                  {k.used ? `, used last ${headerText(k.used)}` : ", never used"}
                  {k.page && `; a person's page of ${k.devices.join(", ")} at ${k.page}`}
                  {k.trouble && ` is not served: ${k.trouble}`}
                </span>
              </span>
              <button type="button" className="press press-small" onClick={() => drop.mutate(k.name)}>
                End {k.name}
              </button>
            </li>
          ))}
        </ul>
        <AddAccess />
      </OwnerOnly>
    </section>
  );
}
