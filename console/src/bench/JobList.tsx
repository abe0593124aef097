import { useState } from "react";
import { Link } from "react-router";
import { useRepeatJob, useStopJob } from "../api/queries";
import type { Job } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { clockText } from "../parts/time";

const few = 8;

/** What runs, and what has ended and can be repeated. */
export function JobList({ jobs }: { jobs: Job[] }) {
  const [all, setAll] = useState(false);
  const stop = useStopJob();
  const repeat = useRepeatJob();
  const shown = all ? jobs : jobs.slice(0, few);
  return (
    <section aria-label="Jobs" className="mt-6">
      <h2 className="text-section font-semibold">Jobs</h2>
      {jobs.length === 0 && (
        <p className="mt-2 max-w-prose text-secondary">
          Runs, tryouts and driver installs are jobs. They are listed here with their results. A job that was
          interrupted by the end of the bench continues by itself.
        </p>
      )}
      <ProblemText error={stop.error ?? repeat.error} />
      <ul className="mt-2">
        {shown.map((j) => (
          <li key={j.id} className="flex flex-wrap items-baseline gap-x-3 border-b border-base-300 py-2 text-row">
            <span className="mono text-secondary">{clockText(j.created)}</span>
            <span className="min-w-0 flex-1">
              <b className="font-semibold">{j.title}</b>{" "}
              <span className={j.state === "failed" ? "font-medium text-error" : "text-secondary"}>{j.state}</span>
              {j.error && j.state !== "done" && <span className="block text-secondary">{firstLine(j.error.text)}</span>}
            </span>
            {j.device && (
              <Link to={`/devices/${j.device}`} className="press-link">
                {j.device}
              </Link>
            )}
            {(j.state === "running" || j.state === "waiting") && (
              <button
                type="button"
                className="press press-small"
                aria-label={`Stop ${j.title}`}
                onClick={() => stop.mutate(j.id)}
              >
                Stop
              </button>
            )}
            {j.again && (
              <button
                type="button"
                className="press press-small"
                aria-label={`${again(j)} ${j.title}`}
                onClick={() => repeat.mutate(j.id)}
              >
                {again(j)}
              </button>
            )}
          </li>
        ))}
      </ul>
      {jobs.length > few && (
        <button type="button" className="press press-small mt-3" onClick={() => setAll(!all)}>
          {all ? "Only the newest" : `All ${jobs.length}`}
        </button>
      )}
    </section>
  );
}

const again = (j: Job) =>
  (j.result?.devices.length ?? 0) > 0 && j.state !== "done" ? "Repeat where it failed" : "Repeat";

const firstLine = (text: string) => text.split("\n", 1)[0];
