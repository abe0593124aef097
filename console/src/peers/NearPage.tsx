import { useParams } from "react-router";
import { Mark } from "../app/Mark";
import { useHands } from "../api/hands";
import { useBench } from "../api/queries";
import { Emphasis } from "../parts/Emphasis";
import { ProblemText } from "../parts/ProblemText";
import { AnswerHands } from "./AnswerHands";
import { handsText } from "./handsText";

/** What somebody near a lent device is asked to do, on that person's phone: this, and nothing else. */
export function NearPage() {
  const { id = "" } = useParams();
  const bench = useBench();
  const { data: hands, error } = useHands(id);
  const open = hands && (hands.state === "asked" || hands.state === "seen");
  return (
    <>
      <header className="flex items-center gap-3 border-b border-base-300 px-5 py-3">
        <Mark />
        <h1 className="text-section font-semibold">{hands?.device}</h1>
        <span className="ml-auto text-caption text-secondary">{bench.data?.name}</span>
      </header>
      <main className="mx-auto max-w-xl pb-10">
        <ProblemText error={error} />
        {hands && (
          <div className="phone-step bg-base-200 px-5 py-6">
            <p className="text-caption text-secondary">
              {hands.peer} has borrowed {hands.device}, and asks for your hands:
            </p>
            <h2 className="mt-3 mb-4 text-step font-semibold">
              <Emphasis text={hands.title} />
            </h2>
            {hands.text && (
              <p className="-mt-2 mb-4">
                <Emphasis text={hands.text} />
              </p>
            )}
            {open ? <AnswerHands hands={hands} /> : <p className="mt-4 font-semibold">{handsText(hands)}</p>}
          </div>
        )}
      </main>
    </>
  );
}
