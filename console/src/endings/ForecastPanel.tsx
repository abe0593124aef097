import type { Endings, Term } from "../api/types";
import { shortDay } from "./scale";

/** What will not work on the chosen day, and what to do before. */
export function ForecastPanel({ endings }: { endings: Endings }) {
  const n = endings.stops.length;
  return (
    <>
      <h2 className="text-lead">
        On <b className="font-semibold">{shortDay(Date.parse(endings.at))}</b>{" "}
        {n === 0 ? "all goes on" : n === 1 ? "one thing will not work" : `${n} things will not work`}
      </h2>
      <ul className="mt-3 border-t border-base-300">
        {endings.stops.map((t) => (
          <li key={t.id} className="border-b border-base-300 py-3 text-row">
            <p className="flex gap-3">
              <b className="min-w-0 flex-1 font-semibold">{title(t)}</b>
              <span className="text-secondary">by {t.by && shortDay(Date.parse(t.by))}</span>
            </p>
            <p className="text-caption text-secondary">{t.stops}</p>
            {t.step && <p className="text-caption">{t.step}</p>}
            {t.command && <p className="mono text-caption">{t.command}</p>}
          </li>
        ))}
      </ul>
      <Named head="Renewed by the bench before then, while the safe is open" all={endings.alone} />
      <Named head="Belonging to others, and ended by then" all={endings.others} />
    </>
  );
}

function Named({ head, all }: { head: string; all: Term[] }) {
  if (all.length === 0) return null;
  return (
    <p className="mt-4 text-row">
      <span className="block text-caption text-secondary">{head}</span>
      {all.map(title).join(", ")}
    </p>
  );
}

function title(t: Term) {
  if (t.kind === "admission") return `admission on ${t.holder}`;
  return t.kind === "standing" ? `standing ${t.name} of ${t.holder}` : `${t.kind} ${t.name}`;
}
