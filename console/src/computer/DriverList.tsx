import { useDrivers } from "../api/queries";
import { AddDriver } from "../parts/AddDriver";
import { ProblemText } from "../parts/ProblemText";
import { bytesText } from "../parts/time";

/** The driver sets that the bench has, and which devices they fit. */
export function DriverList() {
  const drivers = useDrivers();
  return (
    <section aria-label="Driver sets" className="mt-8">
      <h2 className="text-section font-semibold">Driver sets</h2>
      <ProblemText error={drivers.error} />
      {drivers.data?.items.length === 0 && <p className="mt-1 text-secondary">None yet.</p>}
      <ul className="mt-1">
        {drivers.data?.items.map((d) => (
          <li key={d.digest} className="py-1 text-row">
            <b className="font-semibold">{d.name}</b> {d.version}{" "}
            <span className="text-secondary">
              of {d.maker}, {bytesText(d.size)}, fits <span className="mono">{d.fits.join(", ")}</span>
            </span>
          </li>
        ))}
      </ul>
      <AddDriver />
    </section>
  );
}
