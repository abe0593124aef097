import { CommandLine } from "../parts/CommandLine";
import { useHosts } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";

/** The computers to which devices are connected. */
export function HostList() {
  const hosts = useHosts();
  return (
    <section aria-label="Hosts" className="mt-8">
      <h2 className="text-section font-semibold">Hosts</h2>
      <ProblemText error={hosts.error} />
      {hosts.data?.items.length === 0 && (
        <p className="mt-1 text-secondary">
          None is watched yet: <CommandLine>earlybench host add NAME --usbip HOST:PORT --control HOST:PORT</CommandLine>
        </p>
      )}
      <ul className="mt-1">
        {hosts.data?.items.map((h) => (
          <li key={h.name} className="py-1 text-row">
            <b className="font-semibold">{h.name}</b>{" "}
            <span className="text-secondary">
              {h.trouble || "reached"}
              {h.shared && ", used by several people"}
            </span>
            <span className="mono block text-secondary">{h.usbip}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
