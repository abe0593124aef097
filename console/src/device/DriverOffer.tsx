import { useInstallDriver } from "../api/queries";
import type { Prep } from "../api/types";
import { AddDriver } from "../parts/AddDriver";
import { ProblemText } from "../parts/ProblemText";
import { bytesText } from "../parts/time";

/** The driver set that fits, and the button by which one consents to just that one. */
export function DriverOffer({ prep: { device, offer } }: { prep: Prep }) {
  const install = useInstallDriver(device.handle);
  if (!offer) {
    return (
      <div className="mt-5">
        <p className="max-w-prose">No driver set here fits it.</p>
        <AddDriver />
      </div>
    );
  }
  return (
    <div className="mt-5">
      <dl className="grid max-w-lg grid-cols-[88px_1fr] gap-y-1 text-row">
        <dt className="text-secondary">Made by</dt>
        <dd>
          {offer.maker}, {bytesText(offer.size)}
        </dd>
        <dt className="text-secondary">Fits</dt>
        <dd className="mono">{offer.fits.join(", ")}</dd>
        <dt className="text-secondary">SHA-256</dt>
        <dd className="mono break-all">{offer.digest}</dd>
      </dl>
      <button
        type="button"
        className="press press-main mt-4"
        disabled={install.isPending || device.working !== ""}
        onClick={() => install.mutate(offer.digest)}
      >
        Install {offer.name} {offer.version} on {device.host}
      </button>
      <ProblemText error={install.error} />
    </div>
  );
}
