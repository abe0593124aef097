import { useAnswer, useRemedied } from "../api/queries";
import type { Why } from "../api/types";
import { Emphasis } from "../parts/Emphasis";
import { ProblemText } from "../parts/ProblemText";
import { RestartLink } from "../parts/RestartLink";
import { WhoSign, whoWords } from "../parts/Signs";
import { secondsText } from "../parts/time";

/** The one thing to do to find out: a check with its answers, or a remedy. */
export function NextMove({ why }: { why: Why }) {
  const answer = useAnswer(why.device);
  const remedied = useRemedied(why.device);
  const move = why.next;
  if (!move || move.kind === "step") return null;
  return (
    <div aria-label="To find out" role="group" className="mt-4 rounded-lg bg-base-200 px-4 py-3">
      <p className="flex items-center gap-2 text-caption text-secondary">
        <WhoSign who={move.who} /> {move.kind === "check" ? "To tell them apart" : "What helps"}:{" "}
        {whoWords[move.who]!.toLowerCase()}, {secondsText(move.seconds)}
      </p>
      <p className="mt-1.5 font-medium">
        <Emphasis text={move.text} />
      </p>
      {move.note && (
        <p className="mt-1 text-row text-secondary">
          <Emphasis text={move.note} />
        </p>
      )}
      {move.sight && (
        <p className="mt-1 text-row text-secondary">
          You will see: <Emphasis text={move.sight} />
        </p>
      )}
      <div className="mt-2.5 flex flex-wrap gap-2">
        {move.answers.map((a) => (
          <button
            key={a.id}
            type="button"
            className="press press-small h-auto min-h-7 py-1 text-left"
            disabled={answer.isPending}
            onClick={() => answer.mutate({ check: move.id, answer: a.id })}
          >
            <Emphasis text={a.text} />
          </button>
        ))}
        {move.step && (
          <button type="button" className="press press-small h-7" onClick={toStep}>
            Go to the step
          </button>
        )}
        {move.action === "link.restart" && <RestartLink handle={why.device} />}
        {move.kind === "remedy" && (
          <button
            type="button"
            className="press press-small h-7"
            disabled={remedied.isPending}
            onClick={() => remedied.mutate(move.id)}
          >
            Done, and it did not help
          </button>
        )}
      </div>
      <ProblemText error={answer.error ?? remedied.error} />
    </div>
  );
}

/** The step stands above, with all that belongs to it. */
function toStep() {
  document.querySelector("[aria-label='Current step']")?.scrollIntoView({ block: "center", behavior: "smooth" });
}
