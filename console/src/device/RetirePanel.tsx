import { Check } from "lucide-react";
import { useState } from "react";
import { useCallOff, useRetire, useRetirement, useTellRetirement } from "../api/queries";
import type { Device, Retirement } from "../api/types";
import { plain } from "../parts/Emphasis";
import { ProblemText } from "../parts/ProblemText";
import { clockText } from "../parts/time";

/** Retiring a device: first what it will undo, then the progress. */
export function RetirePanel({ device }: { device: Device }) {
  const [asked, setAsked] = useState(false);
  const plan = useRetirement(device.handle, asked || device.retiring || device.summary === "retired");
  const retire = useRetire(device.handle);
  const callOff = useCallOff(device.handle);
  const retired = device.summary === "retired";
  if (!asked && !device.retiring && !retired)
    return (
      <section aria-label="Retire it" className="mt-6">
        <button type="button" className="press-link text-row" onClick={() => setAsked(true)}>
          Retire {device.handle}…
        </button>
      </section>
    );
  return (
    <section aria-label="Retire it" className="mt-6 max-w-prose">
      <h2 className="text-section font-semibold">
        {retired
          ? `${device.handle} is retired`
          : device.retiring
            ? `${device.handle} is being retired`
            : `Retire ${device.handle}?`}
      </h2>
      <p className="mt-1 text-row text-secondary">
        {retired
          ? "Nothing of this bench is left on it. To use it again, plug it in again, or press the button."
          : device.retiring
            ? "What cannot be done now is done when it comes back. Close it by hand as described; the bench sees it."
            : "This removes everything of this bench from it. To work with it again, it has to be set up from scratch."}
      </p>
      {plan.data && <Items handle={device.handle} plan={plan.data} on={device.retiring} />}
      <ProblemText error={plan.error ?? retire.error ?? callOff.error} />
      <p className="mt-3 flex gap-4">
        {device.retiring || retired ? (
          <button
            type="button"
            className="press"
            onClick={() => callOff.mutate(undefined, { onSuccess: () => setAsked(false) })}
          >
            {retired ? "Take it up again" : "Call it off"}
          </button>
        ) : (
          <>
            <button type="button" className="press" onClick={() => retire.mutate()}>
              Retire it
            </button>
            <button type="button" className="text-row font-medium text-primary" onClick={() => setAsked(false)}>
              Leave it
            </button>
          </>
        )}
      </p>
    </section>
  );
}

function Items({ handle, plan, on }: { handle: string; plan: Retirement; on: boolean }) {
  const tell = useTellRetirement(handle);
  return (
    <ul className="mt-3">
      {plan.items.map(({ step, at, by }) => (
        <li key={step.id} className="flex items-baseline gap-3 py-1 text-row">
          <span className="w-4">{step.done ? <Check size={14} aria-label="done" /> : "·"}</span>
          <span>
            {plain(step.title)}
            <span className="ml-2 text-caption text-secondary">
              {step.done ? `${by ? `confirmed by ${by}` : "observed"} ${clockText(at ?? "")}` : who(step.who)}
            </span>
          </span>
          {on && !step.done && step.tell && (
            <button type="button" className="ml-auto press-link" onClick={() => tell.mutate(step.id)}>
              I have done that
            </button>
          )}
        </li>
      ))}
    </ul>
  );
}

const who = (w: string) => (w === "hands" ? "with your hands" : "by the bench, when it is linked");
