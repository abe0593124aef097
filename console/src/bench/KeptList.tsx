import { useOwner, useTidy, useTidyNow } from "../api/owner";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { bytesText } from "../parts/time";

/** How much the bench keeps, and what of it nothing uses any more. */
export function KeptList() {
  const kept = useTidy();
  const owner = useOwner();
  const now = useTidyNow();
  const plan = kept.data;
  return (
    <section aria-label="What is kept" className="mt-8">
      <h2 className="text-section font-semibold">What is kept</h2>
      <ProblemText error={kept.error ?? now.error} />
      {plan && (
        <p className="mt-1 text-row">
          {bytesText(plan.records)} of records, {bytesText(plan.files)} of files.{" "}
          {plan.rows.length === 0 && <span className="text-secondary">All of it is in use, or new.</span>}
        </p>
      )}
      {plan && plan.rows.length > 0 && (
        <>
          <ul>
            {plan.rows.map((r) => (
              <li key={r.kind + r.name} className="py-1 text-row">
                <b className="font-semibold">
                  {r.count > 1 && r.count} {r.kind}
                </b>{" "}
                {r.name} {r.bytes > 0 && bytesText(r.bytes)}
                <span className="block text-caption text-secondary">{r.why}</span>
              </li>
            ))}
          </ul>
          <p className="text-caption text-secondary">It is removed automatically within six hours.</p>
          <OwnerOnly what="Remove it sooner" command="earlybench tidy">
            <p className="text-row">Only a backup can bring it back.</p>
            <button
              type="button"
              className="press press-small"
              disabled={now.isPending || !owner}
              onClick={() => now.mutate()}
            >
              Remove it now
            </button>
          </OwnerOnly>
        </>
      )}
      <p className="mt-2 text-caption text-secondary">
        Everything in one file: <span className="mono">earlybench backup make FILE</span>
      </p>
    </section>
  );
}
