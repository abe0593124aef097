import { useOwner } from "../api/owner";
import { useDepots, useDropDepot } from "../api/supply";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { bytesText } from "../parts/time";
import { AddDepot } from "./AddDepot";

const states: Record<string, string> = {
  "": "not asked yet",
  up: "answers",
  slow: "is slow",
  cut: "was interrupted, trying again",
  down: "does not answer",
};

/** The depots from which driver sets and support packs come, and whether each answers. */
export function DepotList() {
  const depots = useDepots();
  const owner = useOwner();
  const drop = useDropDepot();
  return (
    <section aria-label="Depots" className="mt-8">
      <h2 className="text-section font-semibold">Depots</h2>
      <ProblemText error={depots.error ?? drop.error} />
      {depots.data?.items.length === 0 && <p className="mt-1 text-secondary">None yet.</p>}
      <ul className="mt-1">
        {depots.data?.items.map((d) => (
          <li key={d.name} className="py-1 text-row">
            <b className="font-semibold">{d.name}</b>{" "}
            <span className="text-secondary">
              {states[d.state]}
              {d.rate > 0 && `, ${bytesText(d.rate)}/s measured last`}, {d.offers} offers, signed by {d.signer}
            </span>
            <span className="mono block break-all text-secondary">{d.url}</span>
            {d.trouble !== "" && <span className="block">{d.trouble}</span>}
            {owner && (
              <button type="button" className="press press-small mt-1" onClick={() => drop.mutate(d.name)}>
                Forget {d.name}
              </button>
            )}
          </li>
        ))}
      </ul>
      <OwnerOnly what="Add a depot" command="earlybench depot add URL">
        <AddDepot />
      </OwnerOnly>
    </section>
  );
}
