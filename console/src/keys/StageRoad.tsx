import type { MayRun } from "../api/types";
import { Gate } from "../parts/Gate";

const stops = (state: string) => state === "shut" || state === "waiting";

/** What comes before an app may run, from the account on; the first that stops is lit. */
export function StageRoad({ stages }: { stages: MayRun["stages"] }) {
  const stop = stages.findIndex((s) => stops(s.state));
  return (
    <ol aria-label="What comes before" className="mt-5 grid grid-cols-2 gap-y-4 md:grid-cols-6">
      {stages.map((s, i) => (
        <li key={s.name} className="min-w-0">
          <span className={`flex h-[38px] items-center ${stop < 0 || i < stop ? "road" : ""}`}>
            <span className="relative">
              <Gate state={s.state} first={i === stop} size={28} />
              {s.soon && (
                <span className="absolute -top-0.5 right-0 size-[7px] rounded-full bg-accent">
                  <span className="sr-only">ends soon</span>
                </span>
              )}
            </span>
          </span>
          <span className="block pr-3 text-caption text-secondary">{s.name}</span>
          <b className="block truncate pr-3 text-row font-semibold" title={s.value}>
            {s.value}
          </b>
          <span className="block pr-3 text-caption text-secondary">{s.note}</span>
        </li>
      ))}
    </ol>
  );
}
