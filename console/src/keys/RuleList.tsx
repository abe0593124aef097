import { useWithdrawSafe } from "../api/safe";
import type { Safe } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { headerText } from "../parts/time";

/** What is allowed for a time without asking. */
export function RuleList({ safe }: { safe: Safe }) {
  const withdraw = useWithdrawSafe();
  if (safe.rules.length === 0) return null;
  return (
    <section aria-label="Allowed without asking" className="mt-8">
      <h2 className="text-section font-semibold">Allowed without asking</h2>
      <ul className="mt-1">
        {safe.rules.map((r) => (
          <li
            key={`${r.item} ${r.actor} ${r.app} ${r.purpose}`}
            className="flex flex-wrap items-baseline gap-x-4 border-b border-base-300 py-2 text-row"
          >
            <span className="min-w-0 flex-1">
              <b className="font-semibold">{r.actor}</b> may {r.purpose}
              {r.app !== "" && ` for ${r.app}`}
              <span className="block text-caption text-secondary">
                with {r.name}; allowed by {r.by}
              </span>
            </span>
            <span className="text-secondary">until {headerText(r.ends)}</span>
          </li>
        ))}
      </ul>
      {[...new Map(safe.rules.map((r) => [r.item, r.name]))].map(([item, name]) => (
        <button
          key={item}
          type="button"
          className="press press-small mt-2"
          disabled={withdraw.isPending}
          onClick={() => withdraw.mutate(item)}
        >
          Ask again for every use of {name}
        </button>
      ))}
      <ProblemText error={withdraw.error} />
    </section>
  );
}
