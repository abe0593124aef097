import { useDropSupport, useSupport } from "../api/supply";
import type { SupportPack } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { bytesText } from "../parts/time";

/** How much of a pack is here; how far one that comes is, its job says. */
const sizeOf = (p: SupportPack) => {
  if (p.here) return bytesText(p.size);
  return p.job === "" ? `${bytesText(p.have)} of ${bytesText(p.size)}` : `${bytesText(p.size)}, on its way`;
};

/** The support packs that are here or being fetched, and which devices each is for. */
export function SupportList() {
  const support = useSupport();
  const drop = useDropSupport();
  return (
    <section aria-label="Support packs" className="mt-8">
      <h2 className="text-section font-semibold">Support packs</h2>
      <ProblemText error={support.error ?? drop.error} />
      {support.data?.items.length === 0 && (
        <p className="mt-1 text-row text-secondary">None is here. A device that lacks one is listed under Needed.</p>
      )}
      <ul className="mt-1">
        {support.data?.items.map((p) => (
          <li key={p.digest} className="py-1 text-row">
            <b className="font-semibold">{p.name}</b> {p.version}{" "}
            <span className="text-secondary">
              for {p.family} {p.release}, {sizeOf(p)},{" "}
              {p.devices.length > 0 ? `used by ${p.devices.join(", ")}` : "used by no device"}
            </span>
            {p.job === "" && (p.devices.length === 0 || !p.here) && (
              <button
                type="button"
                className="press press-small ml-2"
                aria-label={`Remove ${p.name} ${p.version}`}
                onClick={() => drop.mutate(p.digest)}
              >
                Remove it
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
