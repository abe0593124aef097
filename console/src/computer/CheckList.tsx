import { CircleAlert, CircleCheck, CircleDashed, CircleX } from "lucide-react";
import { useCheck } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";

const signs = { fine: CircleCheck, limited: CircleAlert, wrong: CircleX, unknown: CircleDashed };

/** The bench's own computer: what of it would stop something, and the remedy. */
export function CheckList() {
  const check = useCheck();
  return (
    <section aria-label="Check of this computer" className="mt-9">
      <h2 className="text-section font-semibold">Check of the bench&apos;s computer</h2>
      <ProblemText error={check.error} />
      <ul className="mt-2 grid grid-cols-1 gap-x-9 md:grid-cols-2">
        {check.data?.items.map((k) => {
          const Sign = signs[k.state];
          const stops = k.state === "wrong" || k.state === "limited";
          return (
            <li key={k.id} className="flex gap-2.5 border-b border-base-300 py-2 text-row">
              <Sign
                size={16}
                strokeWidth={1.5}
                aria-hidden="true"
                className={`mt-0.5 shrink-0 ${k.state === "fine" ? "text-success" : ""}`}
              />
              <span className="min-w-0">
                <b className="font-semibold">{k.title}</b> <span className="text-secondary">{k.state}</span>
                <span className="block break-words">{k.found}</span>
                {stops && (
                  <span className="block text-secondary">
                    {k.breaks} {k.remedy}
                  </span>
                )}
              </span>
            </li>
          );
        })}
      </ul>
      <button
        type="button"
        className="press press-small mt-3"
        disabled={check.isFetching}
        onClick={() => void check.refetch()}
      >
        Check again
      </button>
    </section>
  );
}
