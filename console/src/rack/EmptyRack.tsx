import { Link } from "react-router";
import { useHosts } from "../api/queries";
import { AddHost } from "../computer/AddHost";
import { CommandLine } from "../parts/CommandLine";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { AddDevice } from "./AddDevice";

/** What leads to a first device: what this bench sees, what to plug in, how to try all of it without one. */
export function EmptyRack() {
  const hosts = useHosts();
  const all = hosts.data?.items ?? [];
  const reached = all.find((h) => !h.trouble);
  return (
    <section aria-label="First steps" className="mt-8 max-w-prose">
      <ProblemText error={hosts.error} />
      <ol className="space-y-7">
        <li>
          <h2 className="text-section font-semibold">What this bench sees</h2>
          {hosts.data && all.length === 0 && (
            <>
              <p className="mt-1 text-secondary">
                It does not watch a computer yet. Devices are connected to hosts by USB. Add a host with its two
                addresses:
              </p>
              <OwnerOnly what="Watch a host" command="earlybench host add NAME --usbip HOST:PORT --control HOST:PORT">
                <AddHost />
              </OwnerOnly>
            </>
          )}
          <ul>
            {all.map((h) => (
              <li key={h.name} className="mt-1">
                <b className="font-semibold">{h.name}</b>{" "}
                <span className="text-secondary">{h.trouble || "is reached, but no device is on its bus."}</span>
              </li>
            ))}
          </ul>
        </li>
        <li>
          <h2 className="text-section font-semibold">What to plug in</h2>
          <p className="mt-1 text-secondary">
            A handset or tablet{reached ? ` into ${reached.name}` : ""}, with a cable that carries data, and unlock it
            once. It appears here by itself, with its first step. A watch has no data port: add it by its model.
          </p>
          <div className="mt-2">
            <AddDevice />
          </div>
          <p className="mt-2 text-secondary">
            It charges and does not appear?{" "}
            <Link to="/unseen" className="press-link">
              Find out why
            </Link>
          </p>
        </li>
        <li>
          <h2 className="text-section font-semibold">Without any device</h2>
          <p className="mt-1 text-secondary">
            The demo is a separate bench, with stand-in devices to touch, plug and break. It uses other ports than this
            one:
          </p>
          <CommandLine>earlybench demo --state ~/early-bench-demo --port 7520</CommandLine>
        </li>
      </ol>
    </section>
  );
}
