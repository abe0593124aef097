import { usePin } from "../api/queries";
import type { Device } from "../api/types";
import { ProblemText } from "../parts/ProblemText";

/** Pins the key that a device shows instead of the pinned one, for a device that was wiped. */
export function PinKey({ device }: { device: Device }) {
  const pin = usePin(device.handle);
  return (
    <div className="mt-5">
      <dl className="text-row">
        <dt className="text-secondary">Pinned</dt>
        <dd className="mono break-all">{device.device_key}</dd>
        <dt className="mt-1 text-secondary">It shows</dt>
        <dd className="mono break-all">{device.shown_key}</dd>
      </dl>
      <button
        type="button"
        className="press mt-3"
        disabled={pin.isPending}
        onClick={() => pin.mutate(device.shown_key)}
      >
        {device.handle} was wiped: pin the key that it shows
      </button>
      <p className="mt-2 max-w-prose text-caption text-secondary">
        Do this only if you know that it was wiped. If it was not, unplug it: something else is answering in its place.
      </p>
      <ProblemText error={pin.error} />
    </div>
  );
}
