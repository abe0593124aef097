import { useDropHost, useOwner, useShareHost } from "../api/owner";
import { useHosts } from "../api/queries";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { AddHost } from "./AddHost";

/** The computers to which devices are connected. */
export function HostList() {
  const hosts = useHosts();
  const owner = useOwner();
  const share = useShareHost();
  const drop = useDropHost();
  return (
    <section aria-label="Hosts" className="mt-8">
      <h2 className="text-section font-semibold">Hosts</h2>
      <ProblemText error={hosts.error ?? share.error ?? drop.error} />
      {hosts.data?.items.length === 0 && <p className="mt-1 text-secondary">None is watched yet.</p>}
      <ul className="mt-1">
        {hosts.data?.items.map((h) => (
          <li key={h.name} className="py-1 text-row">
            <b className="font-semibold">{h.name}</b>{" "}
            <span className="text-secondary">
              {h.trouble || "reached"}
              {h.shared && ", used by several people"}
            </span>
            <span className="mono block break-all text-secondary">
              {h.usbip || h.control}
              {h.ssh && `, through ${h.ssh}`}
            </span>
            {owner && (
              <span className="mt-1 flex flex-wrap items-center gap-3">
                <label className="flex min-h-6 items-center gap-2">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-sm"
                    checked={h.shared}
                    onChange={(e) => share.mutate({ name: h.name, shared: e.target.checked })}
                  />
                  Several people use {h.name}
                </label>
                <button type="button" className="press press-small" onClick={() => drop.mutate(h.name)}>
                  Stop watching {h.name}
                </button>
              </span>
            )}
          </li>
        ))}
      </ul>
      <OwnerOnly what="Watch another host" command="earlybench host add NAME --usbip HOST:PORT --control HOST:PORT">
        <AddHost />
      </OwnerOnly>
    </section>
  );
}
