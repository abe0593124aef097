import { useState } from "react";
import { useStopPeering, useTypePeerWords } from "../api/peers";
import type { PeerMeeting } from "../api/types";
import { Field } from "../parts/Field";
import { ProblemText } from "../parts/ProblemText";

/** The three words of an introduction to another bench. */
export function MeetingForm({ meeting }: { meeting: PeerMeeting }) {
  const [words, setWords] = useState("");
  const type = useTypePeerWords();
  const stop = useStopPeering();
  if (meeting.state === "asked")
    return (
      <p role="status" className="mt-3 text-row">
        The words are correct: nobody is in between. The owner of {meeting.name} is being asked whether to accept this
        bench.
      </p>
    );
  return (
    <form
      aria-label={`Introduction to ${meeting.name}`}
      className="mt-3"
      onSubmit={(e) => {
        e.preventDefault();
        type.mutate(words);
      }}
    >
      <p className="text-row">
        {meeting.name} shows three words on its page Bench. Ask its owner for them. Its key:{" "}
        <span className="mono break-all">{meeting.key}</span>
      </p>
      <Field label={`The three words of ${meeting.name}`} value={words} onChange={setWords} />
      <p className="mt-2 flex gap-3">
        <button type="submit" className="press press-small" disabled={type.isPending || words.trim() === ""}>
          These are its words
        </button>
        <button type="button" className="press press-small" onClick={() => stop.mutate()}>
          Give up
        </button>
      </p>
      <ProblemText error={type.error ?? stop.error} />
    </form>
  );
}
