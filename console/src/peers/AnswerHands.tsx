import { useState } from "react";
import { useAnswerHands } from "../api/hands";
import type { Hands } from "../api/types";
import { ProblemText } from "../parts/ProblemText";

/** Done, or why not. */
export function AnswerHands({ hands }: { hands: Hands }) {
  const [note, setNote] = useState("");
  const answer = useAnswerHands(hands.id);
  return (
    <div className="flex flex-wrap items-center gap-3">
      <button
        type="button"
        className="press press-main"
        disabled={answer.isPending}
        onClick={() => answer.mutate({ done: true, note })}
      >
        It is done
      </button>
      <button
        type="button"
        className="press"
        disabled={answer.isPending}
        onClick={() => answer.mutate({ done: false, note })}
      >
        It cannot be done
      </button>
      <label className="flex items-center gap-2 text-caption">
        Note
        <input className="input input-sm" value={note} maxLength={300} onChange={(e) => setNote(e.target.value)} />
      </label>
      <ProblemText error={answer.error} />
    </div>
  );
}
