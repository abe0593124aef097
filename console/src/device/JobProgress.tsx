import { useJobs, useStopJob } from "../api/queries";
import type { Device, Job } from "../api/types";
import { bytesText } from "../parts/time";

/** The device's job that runs, or how the last one ended, if it ended badly. */
export function JobProgress({ device }: { device: Device }) {
  const jobs = useJobs();
  const job = jobs.data?.items.find((j) => j.device === device.handle);
  return job ? <OneJob job={job} /> : null;
}

/** A job that runs, with how far it is, or how it ended, if it ended badly. */
export function OneJob({ job }: { job: Job }) {
  const stop = useStopJob();
  if (job.state !== "running") return <Ended job={job} />;
  return (
    <div className="mt-5" role="status">
      <p className="flex items-center gap-3 text-row font-medium">
        {job.title}
        <button type="button" className="press press-small" onClick={() => stop.mutate(job.id)}>
          Stop
        </button>
      </p>
      <ul className="mt-2 flex flex-wrap gap-x-4 gap-y-1 text-caption text-secondary">
        {job.phases.map((p) => (
          <li key={p.name} className={p.state === "running" ? "font-semibold text-base-content" : ""}>
            {p.state === "done" ? "✓ " : ""}
            {p.name}
            {p.state === "running" && p.total > 0 && ` ${bytesText(p.done)} of ${bytesText(p.total)}`}
            {p.state === "running" && p.total > 0 && p.note && `, ${p.note}`}
            {p.state === "running" && p.total > 0 && (
              <progress
                className="progress progress-primary ml-2 w-24 align-middle"
                value={p.done}
                max={p.total}
                aria-label={p.name}
              />
            )}
          </li>
        ))}
      </ul>
      {job.phases.map(
        (p) =>
          p.state === "running" &&
          p.asks && (
            <p key={p.name} className="mt-3 max-w-prose text-row font-semibold">
              {p.asks}
            </p>
          ),
      )}
    </div>
  );
}

function Ended({ job }: { job: Job }) {
  if (!job.error || job.state === "done") return null;
  return (
    <div className="mt-5 max-w-prose text-row" role="alert">
      <p className="font-semibold">
        {job.title}: {job.state}
      </p>
      <p className="mt-1 max-h-40 overflow-auto whitespace-pre-wrap">{job.error.text}</p>
      {job.error.remedy && <p className="mt-1 text-secondary">{job.error.remedy}</p>}
    </div>
  );
}
