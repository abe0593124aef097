import { useBench } from "../api/queries";
import { Rename } from "./Rename";

/** What the bench is called, and by which keys it is known. */
export function Settings() {
  const bench = useBench().data;
  if (!bench) return null;
  return (
    <section aria-label="Settings">
      <h2 className="text-section font-semibold">{bench.name}</h2>
      <dl className="mt-1 text-row">
        <Line name="Version" value={bench.version} />
        <Line name="Link key, as devices show it" value={bench.fingerprint} />
        <Line name="Development key, which signs apps" value={bench.developer} />
      </dl>
      <Rename key={bench.name} now={bench.name} />
    </section>
  );
}

const Line = ({ name, value }: { name: string; value: string }) => (
  <div className="py-1">
    <dt className="text-caption text-secondary">{name}</dt>
    <dd className="mono break-all">{value}</dd>
  </div>
);
