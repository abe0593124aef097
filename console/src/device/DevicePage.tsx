import { useParams } from "react-router";
import { usePrep, useWhy } from "../api/queries";
import { AppChoice } from "../app/AppChoice";
import { useChosenApp } from "../app/chosenApp";
import { ProblemText } from "../parts/ProblemText";
import { HandsBar } from "../peers/HandsBar";
import { LoanBar } from "../peers/LoanBar";
import { ReservedBar } from "../peers/ReservedBar";
import { AppsPanel } from "./AppsPanel";
import { CurrentStep } from "./CurrentStep";
import { DropPanel } from "./DropPanel";
import { GateStrip } from "./GateStrip";
import { HandsBoard } from "./HandsBoard";
import { LogPanel } from "./LogPanel";
import { Plan } from "./Plan";
import { RetirePanel } from "./RetirePanel";
import { ScreenPanel } from "./ScreenPanel";
import { WhyPanel } from "../why/WhyPanel";
import { WayList } from "./WayList";
import { FactsPanel } from "./FactsPanel";

/** One device: the plan and the current step, the device in the hand beside it, why below. */
export function DevicePage() {
  const { handle = "" } = useParams();
  const app = useChosenApp();
  const prep = usePrep(handle, app);
  const why = useWhy(handle, app);
  if (prep.error)
    return (
      <main className="p-8">
        <ProblemText error={prep.error} />
      </main>
    );
  if (!prep.data) return <main className="p-8 text-secondary">Asking how it stands…</main>;
  const { device } = prep.data;
  const linked = device.gates["linked"] === "open";
  const asleep = device.ways.some((w) => w.state === "asleep");
  return (
    <div className={`grid grid-cols-[minmax(0,1fr)] ${device.hands_url ? "lg:grid-cols-[minmax(0,1fr)_372px]" : ""}`}>
      <main className="min-w-0 px-5 pt-4 pb-10 md:px-8">
        <div className="flex flex-wrap items-baseline gap-x-4">
          <h1 className="text-[28px]/[32px] font-semibold tracking-[-0.015em]">{device.handle}</h1>
          <p>
            {device.maker} {device.model}, {device.family} {device.release}
          </p>
          <p className="mono text-secondary">{device.serial}</p>
          <AppChoice />
          <WayList device={device} />
        </div>
        <LoanBar handle={device.handle} />
        <HandsBar device={device} />
        <ReservedBar handle={device.handle} />
        <GateStrip device={device} />
        <div className="mt-8 grid grid-cols-[minmax(0,1fr)] gap-9 md:grid-cols-[232px_minmax(0,1fr)]">
          <Plan steps={prep.data.steps} current={device.next?.id} />
          <CurrentStep prep={prep.data} />
        </div>
        <div className="-mx-5 mt-8 grid grid-cols-[minmax(0,1fr)] gap-9 border-t border-base-300 px-5 pt-4 md:-mx-8 md:grid-cols-[minmax(0,400px)_minmax(0,1fr)] md:px-8">
          <WhyPanel why={why.data} />
          <AppsPanel device={device} apps={prep.data.apps} />
        </div>
        <ScreenPanel handle={device.handle} linked={linked} lacks={prep.data.lacks["screen"]} />
        {device.summary !== "retiring" && device.summary !== "retired" && device.borrowed_from === "" && (
          <RetirePanel device={device} />
        )}
        {device.borrowed_from === "" && <DropPanel device={device} />}
        <FactsPanel handle={device.handle} />
        <LogPanel handle={device.handle} linked={linked} asleep={asleep} lacks={prep.data.lacks["log"]} />
      </main>
      {device.hands_url && <HandsBoard url={device.hands_url} handle={device.handle} />}
    </div>
  );
}
