import { useAskForHands, useWithdrawHands } from "../api/hands";
import { useLoans } from "../api/peers";
import type { Device, Hands } from "../api/types";
import { Emphasis } from "../parts/Emphasis";
import { ProblemText } from "../parts/ProblemText";
import { AnswerHands } from "./AnswerHands";
import { handsText } from "./handsText";

const isOpen = (h: Hands) => h.state === "asked" || h.state === "seen";

/** What those are asked for who are near a lent or borrowed device: on both sides of a loan. */
export function HandsBar({ device }: { device: Device }) {
  const loan = useLoans().data?.items.find((l) => l.device === device.handle && l.state === "active");
  if (!loan) return null;
  const last = loan.hands.at(-1);
  const asks = !loan.lent && device.next?.who === "hands" && !(last && isOpen(last));
  if (!last && !asks) return null;
  return (
    <section aria-label="Hands" className="mt-4 grid gap-3 rounded-lg bg-base-200 px-4 py-2">
      {last && <Asked hands={last} />}
      {asks && <Ask handle={device.handle} peer={loan.peer} />}
    </section>
  );
}

function Asked({ hands }: { hands: Hands }) {
  const withdraw = useWithdrawHands(hands.id);
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
      <p>
        {hands.lent ? `${hands.peer} asks: ` : `Somebody at ${hands.peer} was asked: `}
        <b className="font-semibold">
          <Emphasis text={hands.title} />
        </b>
        {". "}
        {hands.text && <Emphasis text={hands.text + " "} />}
        {(!hands.lent || !isOpen(hands)) && handsText(hands)}
      </p>
      {hands.lent && isOpen(hands) && <AnswerHands hands={hands} />}
      {!hands.lent && isOpen(hands) && (
        <button
          type="button"
          className="press press-small"
          disabled={withdraw.isPending}
          onClick={() => withdraw.mutate()}
        >
          Withdraw
        </button>
      )}
      <ProblemText error={withdraw.error} />
    </div>
  );
}

function Ask({ handle, peer }: { handle: string; peer: string }) {
  const ask = useAskForHands(handle);
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
      <p>This step needs hands at {peer}.</p>
      <button type="button" className="press press-small" disabled={ask.isPending} onClick={() => ask.mutate()}>
        Ask somebody there
      </button>
      <ProblemText error={ask.error} />
    </div>
  );
}
