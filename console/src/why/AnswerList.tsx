import { useTakeBack } from "../api/queries";
import type { Given } from "../api/types";
import { Emphasis } from "../parts/Emphasis";
import { clockText } from "../parts/time";

/** What was answered so far; people's answers can be taken back. */
export function AnswerList({ handle, answers }: { handle: string; answers: Given[] }) {
  const back = useTakeBack(handle);
  if (answers.length === 0) return null;
  return (
    <div className="mt-4">
      <h3 className="text-caption text-secondary">What was answered</h3>
      <ul>
        {answers.map((g) => (
          <li key={g.check} className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-3 py-[3px] text-row">
            <span className="col-span-2">
              <Emphasis text={g.text} /> <b className="font-semibold">{g.said}</b>
            </span>
            <span className="text-caption text-secondary">
              {g.seen ? `observed, ${g.fact.source}` : `confirmed by ${g.fact.by}`}{" "}
              <span className="mono ml-1">{clockText(g.fact.at)}</span>
            </span>
            {!g.seen && (
              <button
                type="button"
                className="press press-small press-bare"
                disabled={back.isPending}
                onClick={() => back.mutate(g.check)}
              >
                Take back
                <span className="sr-only">: {g.said}</span>
              </button>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}
