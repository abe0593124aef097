import { useState } from "react";
import { useAudit } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";
import { clockText } from "../parts/time";

const page = 15;

/** Who did what, the newest first. */
export function AuditList() {
  const [limit, setLimit] = useState(page);
  const audit = useAudit(limit);
  return (
    <section aria-label="Audit" className="mt-9">
      <h2 className="text-section font-semibold">Who did what</h2>
      <ProblemText error={audit.error} />
      <table className="mt-2 w-full text-row">
        <thead className="text-left text-caption text-secondary">
          <tr>
            <th className="font-normal">when</th>
            <th className="font-normal">who</th>
            <th className="font-normal">what</th>
            <th className="hidden font-normal md:table-cell">of</th>
            <th className="font-normal">outcome</th>
          </tr>
        </thead>
        <tbody>
          {audit.data?.items.map((l) => (
            <tr key={l.id} className="align-baseline">
              <td className="mono py-[3px] pr-4 whitespace-nowrap text-secondary">{clockText(l.at)}</td>
              <td className="pr-4">{l.actor}</td>
              <td className="pr-4">{l.operation}</td>
              <td className="hidden pr-4 break-all text-secondary md:table-cell">{l.subject}</td>
              <td className={l.outcome >= 400 ? "font-medium" : "text-secondary"}>{outcome(l.outcome)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {audit.data?.next && (
        <button type="button" className="press press-small mt-3" onClick={() => setLimit(limit + 3 * page)}>
          More
        </button>
      )}
    </section>
  );
}

function outcome(status: number) {
  if (status === 0) return "cut off";
  if (status < 400) return "done";
  return status === 401 || status === 403 ? "refused" : `failed (${status})`;
}
