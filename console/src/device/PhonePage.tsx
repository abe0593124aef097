import { useParams } from "react-router";
import { Mark } from "../app/Mark";
import { useBench, usePrep, useWhy } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";
import { WhyPanel } from "../why/WhyPanel";
import { CurrentStep } from "./CurrentStep";
import { GateStrip } from "./GateStrip";
import { Plan } from "./Plan";

/** One device on a phone that is held beside it: the step first, then why, then the plan; nothing else. */
export function PhonePage() {
  const { handle = "" } = useParams();
  const bench = useBench();
  const prep = usePrep(handle, "");
  const why = useWhy(handle, "");
  return (
    <>
      <header className="flex items-center gap-3 border-b border-base-300 px-5 py-3">
        <Mark />
        <h1 className="text-section font-semibold">{handle}</h1>
        <span className="truncate text-caption text-secondary">
          {prep.data && `${prep.data.device.maker} ${prep.data.device.model}`}
        </span>
        <span className="ml-auto text-caption text-secondary">{bench.data?.name}</span>
      </header>
      <main className="mx-auto max-w-xl pb-10">
        <ProblemText error={prep.error} />
        {prep.data && (
          <>
            <div className="px-5">
              <GateStrip device={prep.data.device} />
              <p className="pb-3 text-caption text-secondary">{standing(prep.data.device)}</p>
            </div>
            <div className="phone-step bg-base-200 px-5 py-6">
              <CurrentStep prep={prep.data} />
            </div>
            <div className="grid gap-8 px-5 pt-6">
              <WhyPanel why={why.data} />
              <section aria-label="The plan">
                <h2 className="mb-3 text-section font-semibold">The plan</h2>
                <Plan steps={prep.data.steps} current={prep.data.device.next?.id} />
              </section>
            </div>
          </>
        )}
      </main>
    </>
  );
}

function standing(device: { gates: Record<string, string>; first: string }) {
  const open = Object.values(device.gates).filter((s) => s === "open").length;
  return `${open} ${open === 1 ? "gate" : "gates"} open${device.first ? `, now at ${device.first}` : ""}`;
}
