import type { HostTree as Tree } from "../api/types";
import { TreeRow } from "./TreeRow";
import { wiresOf } from "./wires";

/** What is connected to one host, as a tree. */
export function HostTree({ tree }: { tree: Tree }) {
  const wires = wiresOf(tree.rows);
  return (
    <section aria-label={`What is connected to ${tree.host}`} className="mt-5">
      <h2 className="text-section font-semibold">
        {tree.host}
        {tree.own && <span className="font-normal text-secondary"> this computer</span>}
      </h2>
      {tree.trouble && <p className="mt-1 max-w-prose">{tree.trouble}</p>}
      {tree.known && tree.rows.length === 0 && <p className="mt-1 text-secondary">Nothing is connected.</p>}
      {tree.rows.length > 0 && (
        <>
          <p
            aria-hidden="true"
            className="mt-2 hidden text-caption text-secondary md:grid md:grid-cols-[minmax(0,322px)_104px_132px_minmax(0,1fr)]"
          >
            <span />
            <span>speed</span>
            <span>driver</span>
            <span>held by</span>
          </p>
          <ul>
            {tree.rows.map((r, i) => (
              <TreeRow key={r.kind + r.device + r.id + i} row={r} goes={wires[i]!} />
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
