import { useState } from "react";
import type { Cause } from "../api/types";
import { Emphasis } from "../parts/Emphasis";

const shown = 5;

/** What it may be, the most probable first, each with its share as a bar. */
export function CauseBars({ causes }: { causes: Cause[] }) {
  const [all, setAll] = useState(false);
  const counted = causes.filter((c, i) => all || (i < shown && (c.probability >= 0.01 || i === 0)));
  const left = causes.length - counted.length;
  return (
    <div className="mt-3">
      <h3 className="text-caption text-secondary">What it may be</h3>
      <ol aria-label="Causes" className="mt-1">
        {counted.map((c, i) => (
          <li key={c.id} className="py-[5px]">
            <p className={`grid grid-cols-[44px_minmax(0,1fr)] text-row ${i === 0 ? "font-semibold" : ""}`}>
              <span className={i === 0 ? "" : "text-secondary"}>{percent(c.probability)}</span>
              <span>
                <Emphasis text={c.text} />
                {c.done && <span className="font-normal text-secondary"> Tried, did not help.</span>}
              </span>
            </p>
            <span aria-hidden="true" className="mt-1 ml-[44px] block h-[3px] rounded-full bg-base-300/60">
              <span
                className={`block h-full rounded-full ${i === 0 ? "bg-base-content" : "bg-(--road)"}`}
                style={{ width: `${Math.max(100 * c.probability, 0.5)}%` }}
              />
            </span>
          </li>
        ))}
      </ol>
      {(left > 0 || all) && (
        <button type="button" className="press press-small press-bare ml-[36px]" onClick={() => setAll(!all)}>
          {all ? "Fewer" : left === 1 ? "One more, improbable" : `${left} more, improbable`}
        </button>
      )}
    </div>
  );
}

const percent = (p: number) => (p < 0.005 ? "< 1 %" : `${Math.round(100 * p)} %`);
