import { useStatements, useWithdrawStatement } from "../api/statements";
import type { Statement } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { dayText } from "../parts/time";

/** The grants and debug tokens of the bench: whose apps may run, on which devices, until when. */
export function StatementList() {
  const all = useStatements();
  const withdraw = useWithdrawStatement();
  const items = all.data?.items ?? [];
  return (
    <section aria-label="Grants and debug tokens" className="mt-8">
      <h2 className="text-section font-semibold">Grants and debug tokens</h2>
      <ProblemText error={all.error ?? withdraw.error} />
      {all.data && items.length === 0 && (
        <p className="text-row text-secondary">
          None yet. The bench requests one when a device needs it to run an app.
        </p>
      )}
      <ul className="mt-1">
        {items.map((s) => (
          <li key={s.id} className="flex items-baseline gap-3 border-b border-base-300 py-2 text-row">
            <span className="min-w-0 flex-1">
              <b className="font-semibold">
                {s.kind} of {s.crew}/{s.developer}
              </b>
              {s.mine && " (yours)"} for {s.app === "*" ? "every app" : s.app}
              <span className="block text-caption text-secondary">{devicesText(s)}</span>
            </span>
            <span className={s.state === "good" ? "text-secondary" : "text-warning"}>
              {s.state === "good" ? `to ${dayText(s.ends)}` : s.state}
            </span>
            {s.asked && s.state === "good" && (
              <button
                type="button"
                className="press press-small"
                aria-label={`Withdraw the ${s.kind} ${s.id.slice(0, 8)}`}
                disabled={withdraw.isPending}
                onClick={() => withdraw.mutate(s.id)}
              >
                Withdraw
              </button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function devicesText(s: Statement) {
  if (s.devices[0] === "*") return "on any device";
  const others = s.devices.length - s.handles.length;
  return [...s.handles, ...(others > 0 ? [`${others} elsewhere`] : [])].join(", ");
}
