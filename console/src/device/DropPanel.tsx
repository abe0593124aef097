import { useState } from "react";
import { useNavigate } from "react-router";
import { useDropDevice } from "../api/queries";
import type { Device } from "../api/types";
import { ProblemText } from "../parts/ProblemText";

/** Forgets a device that is not connected, after saying what goes with it. */
export function DropPanel({ device }: { device: Device }) {
  const [asked, setAsked] = useState(false);
  const drop = useDropDevice(device.handle);
  const go = useNavigate();
  if (device.link !== "" || device.retiring) return null;
  if (!asked)
    return (
      <section aria-label="Forget it" className="mt-3">
        <button type="button" className="press-link text-row" onClick={() => setAsked(true)}>
          Forget {device.handle}…
        </button>
      </section>
    );
  return (
    <section aria-label="Forget it" className="mt-4 max-w-prose">
      <h2 className="text-section font-semibold">Forget {device.handle}?</h2>
      <p className="mt-1 text-row text-secondary">
        Its pinned key, everything known about it and its tryouts are deleted. If it is connected again, it will be a
        new device.
      </p>
      <ProblemText error={drop.error} />
      <p className="mt-3 flex gap-4">
        <button
          type="button"
          className="press"
          disabled={drop.isPending}
          onClick={() => drop.mutate(undefined, { onSuccess: () => go("/") })}
        >
          Forget it
        </button>
        <button type="button" className="text-row font-medium text-primary" onClick={() => setAsked(false)}>
          Leave it
        </button>
      </p>
    </section>
  );
}
