import { useState } from "react";
import { useEndings } from "../api/endings";
import { useBench } from "../api/queries";
import type { Term } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { CalendarLink } from "./CalendarLink";
import { ForecastPanel } from "./ForecastPanel";
import { dayFrom, monthsOf, mostDays, scaleAround, shortDay } from "./scale";
import { TermRow } from "./TermRow";

const kinds: [Term["kind"], string][] = [
  ["identity", "Identities"],
  ["debug token", "Debug tokens"],
  ["grant", "Grants"],
  ["admission", "Admissions"],
  ["standing", "Standings"],
  ["support pack", "Support packs"],
  ["access key", "Access keys"],
  ["loan", "Loans"],
];

/** Endings: all that ends by itself over time, and what will not work on a day. */
export function EndingsPage() {
  const bench = useBench();
  const now = Date.parse(bench.data?.now ?? new Date().toISOString());
  const [days, setDays] = useState(30);
  const chosen = dayFrom(now, days);
  const endings = useEndings(chosen.toISOString());
  const all = endings.data?.all ?? [];
  const scale = scaleAround(now);
  return (
    <main className="grid min-h-[calc(100dvh-53px)] grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,1fr)_340px]">
      <div className="px-5 pt-3 pb-10 md:px-8">
        <h1 className="text-lead">{endings.data ? headline(all) : endings.isPending && "Asking the bench…"}</h1>
        <ProblemText error={endings.error} />
        <label className="mt-3 flex flex-wrap items-center gap-3 text-row">
          <span>
            What will not work on <b className="font-semibold">{shortDay(chosen.getTime())}</b>?
          </span>
          <input
            type="range"
            className="h-6 min-w-0 flex-1 cursor-pointer accent-primary"
            aria-label="Day"
            aria-valuetext={shortDay(chosen.getTime())}
            min={0}
            max={mostDays}
            value={days}
            onChange={(e) => setDays(Number(e.target.value))}
          />
        </label>
        <div className="relative mt-4 overflow-x-clip pt-[38px] [--labels:120px] md:[--labels:200px]">
          <Lines now={now} chosen={chosen.getTime()} scale={scale} />
          {kinds.map(([kind, name]) => {
            const of = all.filter((t) => t.kind === kind);
            if (of.length === 0) return null;
            return (
              <section key={kind} aria-label={name} className="relative mt-[9px]">
                <h2 className="text-caption text-secondary">{name}</h2>
                <ul>
                  {of.map((t) => (
                    <TermRow key={t.id} term={t} scale={scale} chosen={chosen.getTime()} />
                  ))}
                </ul>
              </section>
            );
          })}
        </div>
      </div>
      <aside aria-label="That day" className="bg-base-200 px-5 pt-4 pb-10 md:px-7">
        {endings.data && <ForecastPanel endings={endings.data} />}
        <CalendarLink />
      </aside>
    </main>
  );
}

/** The lines behind all rows: the months, now, the notice of two weeks, the chosen day. */
function Lines({ now, chosen, scale }: { now: number; chosen: number; scale: ReturnType<typeof scaleAround> }) {
  const notice = scale.at(now + 14 * 86_400_000) - scale.at(now);
  return (
    <div aria-hidden="true" className="absolute inset-0">
      <div className="absolute inset-y-0 left-[calc(var(--labels)+12px)] w-[calc(100%-var(--labels)-12px)]">
        <span
          className="absolute top-[38px] bottom-0 bg-(--lamp-tint)"
          style={{ left: `${scale.at(now)}%`, width: `${notice}%` }}
        />
        {monthsOf(scale).map((m) => (
          <span
            key={m.time}
            className="absolute top-0 h-full border-l border-base-300 pl-1 text-caption font-semibold max-md:text-transparent"
            style={{ left: `${scale.at(m.time)}%` }}
          >
            {m.name}
          </span>
        ))}
        <span
          className="absolute top-[18px] bottom-0 border-l-[1.8px] border-base-content pl-1 text-caption"
          style={{ left: `${scale.at(now)}%` }}
        >
          today
        </span>
        <span
          className="absolute top-[18px] bottom-0 border-l-2 border-primary text-caption"
          style={{ left: `${scale.at(chosen)}%` }}
        >
          <span
            className={`rounded-full bg-primary px-2 py-0.5 font-semibold whitespace-nowrap text-primary-content ${scale.at(chosen) > 85 ? "absolute right-0" : ""}`}
          >
            {shortDay(chosen)}
          </span>
        </span>
      </div>
    </div>
  );
}

function headline(all: Term[]) {
  const ended = all.filter((t) => t.mine && t.state === "ended");
  const soon = all.filter((t) => t.mine && t.state === "soon" && !t.alone);
  if (ended.length > 0)
    return (
      <>
        <b className="font-semibold">{ended.length === 1 ? "One thing has" : `${ended.length} things have`}</b> ended.
      </>
    );
  if (soon.length > 0)
    return (
      <>
        <b className="font-semibold">{soon.length === 1 ? "One thing ends" : `${soon.length} things end`}</b> soon.
      </>
    );
  return "Nothing ends soon that the bench does not renew automatically.";
}
