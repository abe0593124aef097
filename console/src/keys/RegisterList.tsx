import { Link } from "react-router";
import { useLeaveRegister, useRegister, useRegisterDevices } from "../api/belong";
import { ProblemText } from "../parts/ProblemText";
import { headerText } from "../parts/time";

/** The register of the crew's devices: who is in it, who of the rack is not. */
export function RegisterList() {
  const register = useRegister(true);
  const add = useRegisterDevices();
  const leave = useLeaveRegister();
  const r = register.data;
  return (
    <section aria-label="Device register" className="mt-8">
      <h2 className="text-section font-semibold">
        Device register{" "}
        {r && (
          <span className="ml-2 text-caption font-normal text-secondary">
            crew {r.crew.name}, {r.crew.used} of {r.crew.standing.places} places
          </span>
        )}
      </h2>
      <ProblemText error={register.error ?? add.error ?? leave.error} />
      {r && r.missing.length > 0 && (
        <p className="mt-2 flex flex-wrap items-center gap-3 rounded-lg bg-(--lamp-tint) px-4 py-3 text-row">
          <span className="min-w-0 flex-1">
            On the rack and not registered:{" "}
            {r.missing.map((h, i) => (
              <span key={h}>
                {i > 0 && ", "}
                <Link className="press-link" to={`/devices/${h}`}>
                  {h}
                </Link>
              </span>
            ))}
          </span>
          {r.full ? (
            <span className="basis-full text-secondary">
              The register is full. Remove a device first; the least recently seen come first.
            </span>
          ) : (
            <button type="button" className="press" disabled={add.isPending} onClick={() => add.mutate(r.missing)}>
              {r.missing.length === 1 ? `Register ${r.missing[0]}` : `Register all ${r.missing.length}`}
            </button>
          )}
        </p>
      )}
      <ul className="mt-1">
        {r?.entries.map((e) => (
          <li key={e.serial} className="flex items-baseline gap-3 border-b border-base-300 py-2 text-row">
            <span className="min-w-0 flex-1">
              <b className="font-semibold">{e.handle || "not on this rack"}</b>{" "}
              <span className="mono text-secondary">{e.serial}</span>
              <span className="block text-caption text-secondary">
                seen last {headerText(e.seen)}
                {e.self && "; it registered itself with the crew number"}
              </span>
            </span>
            <button
              type="button"
              className="press press-small"
              aria-label={`Free the place of ${e.handle || e.serial}`}
              disabled={leave.isPending}
              onClick={() => leave.mutate(e.serial)}
            >
              Free its place
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
