import { Check, X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { useJob, useProjects, useRunOnAll } from "../api/queries";
import { useChosenApp } from "../app/chosenApp";
import { ProblemText } from "../parts/ProblemText";

/** Tries the chosen app on several devices at once, with one table at the end. */
export function TryAll({ handles }: { handles: string[] }) {
  const app = useChosenApp();
  const project = useProjects().data?.items.find((p) => p.app === app);
  const run = useRunOnAll();
  const [id, setID] = useState("");
  const job = useJob(id).data;
  const rows = job?.result?.devices ?? [];
  if (!app || handles.length === 0) return null;
  return (
    <div className="pt-3">
      <button
        type="button"
        className="press press-small h-7"
        disabled={run.isPending || (id !== "" && !job?.ended)}
        onClick={() =>
          run.mutate({ app, devices: handles, try: true }, { onSuccess: (begun) => begun && setID(begun.id) })
        }
      >
        Try {project?.name || app} on {handles.length === 1 ? handles[0] : `all ${handles.length}`}
      </button>
      {job && !job.ended && <p className="mt-2 text-row text-secondary">{job.title}: it goes on.</p>}
      {rows.length > 0 && (
        <table className="mt-2 text-row">
          <tbody>
            {rows.map((r) => (
              <tr key={r.device}>
                <td className="pr-2">
                  {r.state === "done" ? <Check size={14} aria-label="passed" /> : <X size={14} aria-label="failed" />}
                </td>
                <th scope="row" className="pr-4 text-left font-semibold">
                  <Link to={`/devices/${r.device}`} className="inline-flex min-h-6 items-center hover:underline">
                    {r.device}
                  </Link>
                </th>
                <td>{r.error?.text ?? "passed"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ProblemText error={run.error} />
    </div>
  );
}
