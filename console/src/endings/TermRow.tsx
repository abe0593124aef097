import type { Term } from "../api/types";
import { shortDay, type Scale } from "./scale";

/** One thing that ends: whose it is, and its term as a bar that is closed by a post at its end. */
export function TermRow({ term, scale, chosen }: { term: Term; scale: Scale; chosen: number }) {
  const ends = term.ends ? Date.parse(term.ends) : Infinity;
  const left = scale.at(term.begins ? Date.parse(term.begins) : scale.from);
  const right = scale.at(Math.min(ends, scale.to));
  const beyond = ends > scale.to;
  return (
    <li className="flex min-h-[43px] items-center gap-3">
      <span className="w-(--labels) shrink-0 leading-tight">
        <b className="block truncate text-row font-semibold">{term.kind === "admission" ? term.holder : term.name}</b>
        <span className="block truncate text-caption text-secondary">{whose(term)}</span>
      </span>
      <span aria-hidden="true" className="relative h-[43px] min-w-0 flex-1">
        <span
          className={`absolute top-[22px] h-[10px] ${barClass(term)} ${beyond ? "" : "border-r-[2.4px] border-r-base-content"}`}
          style={{ left: `${left}%`, width: `${Math.max(right - left, 0.3)}%` }}
        />
        {!beyond && (
          <span className="absolute top-[17px] h-[20px] w-[2.4px] bg-base-content" style={{ left: `${right}%` }} />
        )}
        {!beyond && ends < chosen && (
          <span
            className="absolute top-[26px] border-t-2 border-dotted border-(--road)"
            style={{ left: `${right}%`, width: `${Math.max(0, scale.at(chosen) - right)}%` }}
          />
        )}
        <span
          className={`absolute top-0 text-caption whitespace-nowrap ${term.state === "ended" ? "text-error" : ""} ${right > 70 ? "-translate-x-full pr-2" : "pl-2"}`}
          style={{ left: `${right}%` }}
        >
          {dateText(term)}
          {term.alone && term.state !== "ended" && <span className="max-md:hidden">, renewed automatically</span>}
        </span>
      </span>
      <span className="sr-only">{endText(term)}</span>
    </li>
  );
}

function whose(t: Term) {
  const where = t.devices.length > 0 ? t.devices.join(", ") : "";
  if (t.kind === "admission") return "this bench";
  return [t.mine ? "" : "not yours", where || t.holder].filter(Boolean).join("; ");
}

const endless = (t: Term) =>
  t.kind === "support pack" ? "until an update" : t.kind === "standing" ? "no end" : "until withdrawn";

function endText(t: Term) {
  if (!t.ends) return endless(t);
  return t.alone && t.state !== "ended" ? `${dateText(t)}, renewed automatically` : dateText(t);
}

function dateText(t: Term) {
  if (!t.ends) return endless(t);
  const day = shortDay(Date.parse(t.ends));
  return t.state === "ended" ? `ended ${day}` : day;
}

function barClass(t: Term) {
  if (t.state === "ended") return "border border-error";
  if (t.state === "soon" && t.mine && !t.alone) return "bg-accent";
  return t.mine ? "bg-(--road)" : "bg-(--faint)";
}
