import { Link } from "react-router";
import { useRound } from "../api/queries";
import { AppChoice } from "../app/AppChoice";
import { useChosenApp } from "../app/chosenApp";
import type { Round, RoundGroup } from "../api/types";
import { plain } from "../parts/Emphasis";
import { ProblemText } from "../parts/ProblemText";
import { WhoSign } from "../parts/Signs";
import { RoundHero } from "./RoundHero";
import { RoundItem } from "./RoundItem";
import { TryAll } from "./TryAll";
import { Views } from "./Views";

const columns = [
  { who: "hands", title: "With your hands" },
  { who: "computer", title: "At the computer" },
  { who: "automatic", title: "By itself" },
] as const;

/** Many devices at once: by what they need next, in the order in which one walks least. */
export function RoundPage() {
  const app = useChosenApp();
  const round = useRound(app);
  if (!round.data)
    return <main className="p-8">{round.error ? <ProblemText error={round.error} /> : <p>Asking the bench…</p>}</main>;
  const { groups, ready } = round.data;
  const hero = groups[0];
  return (
    <main className="pb-10">
      <div className="flex flex-wrap items-center justify-between gap-4 px-5 py-3 md:px-8">
        <Count groups={groups} ready={ready} />
        <AppChoice />
        <Views />
      </div>
      {hero && <RoundHero group={hero} />}
      <div className="grid gap-x-[52px] gap-y-8 px-5 pt-8 md:px-8 lg:grid-cols-3">
        {columns.map(({ who, title }) => {
          const mine = groups.filter((g) => g.who === who && g !== hero);
          return (
            <section key={who} aria-label={title}>
              <h2 className="flex items-center gap-2.5 border-b border-base-300 pb-2 text-section font-semibold">
                <WhoSign who={who} /> {title}
                <span className="ml-auto text-caption font-normal text-secondary">{sum(mine)}</span>
              </h2>
              {mine.length === 0 && <p className="py-3 text-row text-secondary">Nothing more.</p>}
              <ul className="divide-y divide-base-300">
                {mine.map((g) => (
                  <RoundItem key={g.title + (g.devices[0]?.handle ?? "")} group={g} />
                ))}
              </ul>
              {who === "automatic" && <Ready handles={ready} />}
            </section>
          );
        })}
      </div>
    </main>
  );
}

function sum(groups: RoundGroup[]) {
  const minutes = groups.reduce((n, g) => n + g.minutes, 0);
  if (groups.length === 0) return "";
  const steps = groups.length === 1 ? "1 step" : `${groups.length} steps`;
  return minutes > 0 ? `${steps}, about ${minutes} min` : steps;
}

function Count({ groups, ready }: Round) {
  const waiting = groups.reduce((n, g) => n + g.devices.length, 0);
  if (waiting + ready.length === 0) return <h1 className="text-lead">The rack is empty.</h1>;
  return (
    <h1 className="text-row text-secondary">
      {waiting > 0 &&
        `${waiting} ${waiting === 1 ? "device waits" : "devices wait"} for ${groups.length} next ${groups.length === 1 ? "step" : "steps"}. `}
      {ready.length > 0 && `${ready.length} ${ready.length === 1 ? "needs" : "need"} nothing.`}
    </h1>
  );
}

function Ready({ handles }: { handles: string[] }) {
  if (handles.length === 0) return null;
  return (
    <div className="pt-6">
      <h3 className="flex items-center gap-2.5 text-section font-semibold text-success">
        <WhoSign who="ready" /> Nothing to do
      </h3>
      <p className="pt-3">
        {handles.map((h, i) => (
          <span key={h}>
            {i > 0 && ", "}
            <Link className="inline-flex min-h-6 items-center font-semibold hover:underline" to={`/devices/${h}`}>
              {plain(h)}
            </Link>
          </span>
        ))}
      </p>
      <TryAll handles={handles} />
    </div>
  );
}
