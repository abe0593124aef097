import { useOwner } from "../api/owner";
import { useDropKit, useKits } from "../api/supply";
import type { Kit, KitCopy } from "../api/types";
import { CommandLine } from "../parts/CommandLine";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { UseCopy } from "../parts/UseCopy";
import { AddKit } from "./AddKit";

/** The kits that builds need: each copy, what is wrong with it, and the apps that cannot be built. */
export function KitList() {
  const kits = useKits();
  return (
    <section aria-label="Kits" className="mt-8">
      <h2 className="text-section font-semibold">Kits</h2>
      <ProblemText error={kits.error} />
      <ul className="mt-1">
        {kits.data?.items.map((k) => (
          <li key={k.name} className="py-1 text-row">
            <OneKit kit={k} />
          </li>
        ))}
      </ul>
      <OwnerOnly what="Name the directory of a kit" command="earlybench kit add KIT PATH">
        <AddKit />
      </OwnerOnly>
    </section>
  );
}

function OneKit({ kit }: { kit: Kit }) {
  const usable = kit.copies.some((c) => c.complete);
  return (
    <>
      <b className="font-semibold">{kit.name}</b> <span className="text-secondary">{kit.about}</span>
      {kit.copies.length === 0 && <span className="block text-secondary">No copy is on this computer.</span>}
      {kit.copies.map((c) => (
        <OneCopy key={c.path} kit={kit.name} copy={c} />
      ))}
      {kit.apps
        .filter((n) => n.text !== "")
        .map((n) => (
          <div key={n.app} role="alert" className="mt-1 rounded-lg bg-(--lamp-tint) px-3 py-2">
            <b className="font-semibold">{n.app} cannot be built.</b> {n.text}
            {n.offer !== "" ? <UseCopy kit={kit.name} path={n.offer} /> : <span className="block">{n.remedy}</span>}
          </div>
        ))}
      {usable && <CommandLine>{`eval "$(earlybench kit env ${kit.name})"`}</CommandLine>}
    </>
  );
}

function OneCopy({ kit, copy }: { kit: string; copy: KitCopy }) {
  const owner = useOwner();
  const drop = useDropKit();
  return (
    <div className="mt-1">
      {copy.version || "its version is not known"}
      <span className="text-secondary">
        {copy.named && ", named by you"}
        {copy.on_path && ", on the search path"}
        {copy.apps.length > 0 && `, builds ${copy.apps.join(", ")}`}
      </span>
      <span className="mono block break-all text-secondary">{copy.path}</span>
      {copy.entries
        .filter((e) => e.wrong !== "")
        .map((e) => (
          <span key={e.path} className="block">
            <span aria-hidden="true" className="mr-1 font-semibold">
              ✗
            </span>
            <span className="mono">{e.path}</span> {e.wrong}
          </span>
        ))}
      {owner && copy.named && (
        <button
          type="button"
          className="press press-small mt-1"
          aria-label={`Forget ${kit} in ${copy.path}`}
          onClick={() => drop.mutate({ kit, path: copy.path })}
        >
          Forget it
        </button>
      )}
      <ProblemText error={drop.error} />
    </div>
  );
}
