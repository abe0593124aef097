import { useState } from "react";
import { useStopIntroduction, useTypeWords } from "../api/network";
import type { Introduction } from "../api/types";
import { Countdown } from "./Countdown";
import { Field } from "./Field";
import { ProblemText } from "./ProblemText";

/** A form for the three words that a device shows. */
export function WordsForm({ going, name }: { going: Introduction; name: string }) {
  const [words, setWords] = useState("");
  const type = useTypeWords();
  const stop = useStopIntroduction();
  return (
    <form
      className="mt-5"
      onSubmit={(e) => {
        e.preventDefault();
        type.mutate(words);
      }}
    >
      <Field label={`The three words on the screen of ${name}`} value={words} onChange={setWords} />
      <p className="mt-1 text-caption text-secondary">
        It waits for them <Countdown seconds={going.left_seconds} />.
      </p>
      <p className="mt-3 flex gap-3">
        <button type="submit" className="press press-main" disabled={type.isPending || words.trim() === ""}>
          These are its words
        </button>
        <button type="button" className="press" onClick={() => stop.mutate()}>
          Give up
        </button>
      </p>
      <ProblemText error={type.error ?? stop.error} />
    </form>
  );
}
