import { useAnswerPeer } from "../api/peers";
import type { AskingBench } from "../api/types";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";

/** A bench that wants to become a peer: three words for its person, then the owner's answer. */
export function Asking({ bench }: { bench: AskingBench }) {
  const answer = useAnswerPeer(bench.key);
  return (
    <div role="status" className="mt-2 rounded-lg bg-(--lamp-tint) px-3 py-2 text-row">
      <p>
        <b className="font-semibold">{bench.name}</b> wants to become a peer. Its key:{" "}
        <span className="mono break-all">{bench.key}</span>
      </p>
      {!bench.typed && bench.words !== "" && (
        <p className="mt-1">
          Tell its owner these three words, by voice or in a chat that you trust:{" "}
          <b className="text-section font-semibold">{bench.words}</b>
        </p>
      )}
      {bench.typed && (
        <>
          <p className="mt-1">Its owner has typed the three words, so it is the bench that you told them to.</p>
          <OwnerOnly what={`Accept ${bench.name}`} command={`earlybench peer accept ${bench.key}`}>
            <p className="mt-2 flex gap-3">
              <button type="button" className="press press-small" onClick={() => answer.mutate(true)}>
                Accept {bench.name}
              </button>
              <button type="button" className="press press-small" onClick={() => answer.mutate(false)}>
                Refuse
              </button>
            </p>
          </OwnerOnly>
        </>
      )}
      <ProblemText error={answer.error} />
    </div>
  );
}
