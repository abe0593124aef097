import { useAnswerSafe } from "../api/safe";
import type { SafeRequest } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { clockText } from "../parts/time";

const hours = 3600; // seconds

/** One request to use a key: who, with what, for what, on which document; and the answers. */
export function ConsentCard({ request: r }: { request: SafeRequest }) {
  const answer = useAnswerSafe();
  const row = "flex gap-4 border-b border-base-300 py-2";
  const name = "w-20 shrink-0 text-caption text-secondary";
  return (
    <section aria-label={`Consent: ${r.purpose}`} className="mb-8">
      <p className="text-caption text-secondary">Waiting for your consent since {clockText(r.since)}</p>
      <h2 className="text-lead">
        <b className="font-semibold">{r.actor.replace(/^[a-z]+\//, "")}</b> wants to {r.purpose}
      </h2>
      <dl className="mt-2 text-row">
        <div className={row}>
          <dt className={name}>who</dt>
          <dd className="break-all">{r.actor}</dd>
        </div>
        <div className={row}>
          <dt className={name}>with</dt>
          <dd>{r.name}</dd>
        </div>
        <div className={row}>
          <dt className={name}>what</dt>
          <dd>
            {r.document}
            {r.digest !== "" && <span className="mono block break-all text-secondary">sha256 {r.digest}</span>}
          </dd>
        </div>
        <div className={row}>
          <dt className={name}>until</dt>
          <dd>
            {clockText(r.ends)}
            {r.count > 1 && `; ${r.count} wait for this answer`}
          </dd>
        </div>
      </dl>
      <div className="mt-3 flex flex-wrap items-center gap-3">
        <button
          type="button"
          className="press"
          disabled={answer.isPending}
          onClick={() => answer.mutate({ id: r.id, yes: true })}
        >
          Allow it once
        </button>
        <button
          type="button"
          className="press press-small"
          disabled={answer.isPending}
          onClick={() => answer.mutate({ id: r.id, yes: false })}
        >
          No
        </button>
      </div>
      <p className="mt-2 text-row text-secondary">
        Or, for {r.app || "this"} and this caller:{" "}
        {[
          ["for an hour", 1],
          ["for eight hours", 8],
        ].map(([text, n]) => (
          <button
            key={text}
            type="button"
            className="press-link mr-3"
            onClick={() => answer.mutate({ id: r.id, yes: true, for_seconds: Number(n) * hours })}
          >
            {text}
          </button>
        ))}
      </p>
      <ProblemText error={answer.error} />
    </section>
  );
}
