import { useInstallDriver } from "../api/queries";
import type { Prep } from "../api/types";
import { AddDriver } from "../parts/AddDriver";
import { ProblemText } from "../parts/ProblemText";
import { DriverFacts } from "./DriverFacts";
import { OtherDrivers } from "./OtherDrivers";

/** The driver set that fits best, and the button by which one consents to just that one; and the others. */
export function DriverOffer({ prep: { device, offer } }: { prep: Prep }) {
  const install = useInstallDriver(device.handle);
  if (!offer) {
    return (
      <div className="mt-5">
        <p className="max-w-prose">No known driver set fits it.</p>
        <AddDriver />
        <OtherDrivers device={device} best="" />
      </div>
    );
  }
  return (
    <div className="mt-5">
      <DriverFacts set={offer} />
      {offer.against.map((a) => (
        <p
          key={a.word}
          role="alert"
          className="mt-3 max-w-prose rounded-lg bg-(--lamp-tint) px-3 py-2 text-row break-words"
        >
          {a.text}
        </p>
      ))}
      <button
        type="button"
        className="press press-main mt-4"
        disabled={install.isPending || device.working !== ""}
        onClick={() => install.mutate({ accept: offer.digest, despite: offer.against.map((a) => a.word) })}
      >
        Install {offer.name} {offer.version} on {device.host}
        {offer.against.length > 0 && " nevertheless"}
      </button>
      <ProblemText error={install.error} />
      <OtherDrivers device={device} best={offer.digest} />
    </div>
  );
}
