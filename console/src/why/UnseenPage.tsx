import { useWhy } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";
import { AnswerList } from "./AnswerList";
import { CauseBars } from "./CauseBars";
import { NextMove } from "./NextMove";

/** A device that does not show up at all: what counts is what one sees. */
export function UnseenPage() {
  const why = useWhy("unseen", "");
  return (
    <main className="mx-auto max-w-2xl px-5 pt-8 pb-10 md:px-8">
      <h1 className="text-lead">
        A device <b className="font-semibold">does not show up</b>. What do you see?
      </h1>
      <p className="mt-2 max-w-prose text-secondary">
        It is not on any bus that this bench watches, so your answers count. As soon as something appears, this ends,
        and what helped is remembered.
      </p>
      <ProblemText error={why.error} />
      {why.data && (
        <>
          <h2 className="sr-only">What to do, and what it may be</h2>
          <NextMove why={why.data} />
          <CauseBars causes={why.data.causes} />
          <AnswerList handle="unseen" answers={why.data.answers} />
        </>
      )}
    </main>
  );
}
