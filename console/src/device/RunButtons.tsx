import { useProjects, useRun } from "../api/queries";
import type { Device } from "../api/types";
import { AddProject } from "../parts/AddProject";
import { ProblemText } from "../parts/ProblemText";

/** Try or run the apps that the bench can build; where it has none for the device, what is missing. */
export function RunButtons({ device }: { device: Device }) {
  const projects = useProjects();
  const run = useRun(device.handle);
  const busy = device.working !== "" || run.isPending;
  if (projects.data?.items.length === 0) {
    return (
      <div className="mt-5">
        <p className="max-w-prose text-secondary">
          The bench does not know an app to build yet. Building runs commands from the app’s directory, so only the
          owner can add it.
        </p>
        <AddProject />
      </div>
    );
  }
  const fitting = projects.data?.items.filter((p) => p.trouble || p.families.includes(device.family));
  if (fitting?.length === 0) {
    const names = projects.data?.items.map((p) => p.name || p.app).join(", ");
    return (
      <p className="mt-5 max-w-prose text-secondary">
        There is no app here that is made for {device.family}, only {names}.
      </p>
    );
  }
  return (
    <div className="mt-5 flex flex-wrap items-center gap-3">
      {fitting?.map((p, i) => (
        <span key={p.app} className="flex gap-3">
          <button
            type="button"
            className={i === 0 ? "press press-main" : "press"}
            disabled={busy}
            onClick={() => run.mutate({ app: p.app, try: true })}
          >
            Try {p.name || p.app}
          </button>
          <button
            type="button"
            className="press"
            disabled={busy}
            onClick={() => run.mutate({ app: p.app, try: false })}
          >
            Run {p.name || p.app}
          </button>
        </span>
      ))}
      <ProblemText error={run.error} />
    </div>
  );
}
