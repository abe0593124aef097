import { Check } from "lucide-react";
import type { Step } from "../api/types";
import { plain } from "../parts/Emphasis";

/** All steps: what is done, what is next, what comes. */
export function Plan({ steps, current }: { steps: Step[]; current: string | undefined }) {
  return (
    <ol aria-label="Plan" className="order-last md:order-none">
      {steps.map((s, i) => {
        const here = s.id === current;
        return (
          <li key={s.id} className="relative flex min-h-10 gap-3 pb-3" aria-current={here ? "step" : undefined}>
            {i < steps.length - 1 && (
              <span
                aria-hidden="true"
                className={`absolute top-6 bottom-0 left-[11px] w-[2px] ${s.done ? "bg-(--road)/50" : "bg-base-300"}`}
              />
            )}
            <span
              className={`relative grid size-6 shrink-0 place-items-center rounded-full text-caption ${
                here
                  ? "bg-accent font-semibold text-accent-content"
                  : s.done
                    ? "border-[1.5px] border-(--road)/60"
                    : "border-[1.5px] border-base-300 text-secondary"
              }`}
            >
              {s.done ? <Check size={13} strokeWidth={1.8} aria-label="done" /> : i + 1}
            </span>
            <span className={`pt-[3px] text-row ${here ? "font-semibold" : "text-secondary"}`}>
              {plain(s.title)}
              {s.told && <span className="block text-caption text-warning">confirmed by you</span>}
            </span>
          </li>
        );
      })}
    </ol>
  );
}
