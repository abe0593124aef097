import { Link } from "react-router";
import { useAsk, useTell } from "../api/queries";
import type { Device, Prep, Step as StepOf } from "../api/types";
import { choose } from "../app/chosenApp";
import { Countdown } from "../parts/Countdown";
import { Emphasis } from "../parts/Emphasis";
import { isReady } from "../parts/gates";
import { ProblemText } from "../parts/ProblemText";
import { RestartLink } from "../parts/RestartLink";
import { WhoSign, whoWords } from "../parts/Signs";
import { clockText } from "../parts/time";
import { scrollTo } from "../parts/scrollTo";
import { useKeptFocus } from "../parts/useKeptFocus";
import { AllowButton } from "./AllowButton";
import { DriverOffer } from "./DriverOffer";
import { IntroducePanel } from "./IntroducePanel";
import { JobProgress } from "./JobProgress";
import { KitOffer } from "./KitOffer";
import { PinKey } from "./PinKey";
import { RegisterButton } from "./RegisterButton";
import { RetirePanel } from "./RetirePanel";
import { RunButtons } from "./RunButtons";
import { SupportOffer } from "./SupportOffer";
import { TakeBack } from "./TakeBack";
import { TapDrawing } from "./TapDrawing";

/** The step that comes next, large, with the drawing of where to tap. */
export function CurrentStep({ prep }: { prep: Prep }) {
  const { device } = prep;
  const box = useKeptFocus<HTMLDivElement>(`${device.next?.id} ${device.gates["admitted"]} ${device.working}`);
  return (
    <div ref={box} tabIndex={-1} className="outline-none" aria-label="Step" role="group">
      <Step prep={prep} />
      {device.hands_url && (
        <button
          type="button"
          className="press press-small mt-4 lg:hidden"
          onClick={() => scrollTo(`${device.handle} in your hand`)}
        >
          Show the device in your hand
        </button>
      )}
    </div>
  );
}

function Step({ prep }: { prep: Prep }) {
  const { device } = prep;
  const step = device.next;
  if (device.summary === "retiring" || device.summary === "retired") return <RetirePanel device={device} />;
  if (!step && !isReady(device)) {
    return (
      <section aria-label="Current step" aria-live="polite">
        <p className="flex items-center gap-2 text-caption text-secondary">
          <WhoSign who="computer" /> {whoWords["computer"]}
        </p>
        <h2 className="mt-2 text-lead">
          <Emphasis text={device.says} />
        </h2>
        {device.unfit ? (
          <button type="button" className="press mt-5" onClick={() => choose("")}>
            Prepare {device.handle} without an app
          </button>
        ) : (
          <p className="mt-3 max-w-prose text-secondary">Possible causes and remedies are shown below.</p>
        )}
        <JobProgress device={device} />
      </section>
    );
  }
  if (!step) {
    return (
      <section aria-label="Ready">
        <p className="flex items-center gap-2 text-caption text-success">
          <WhoSign who="ready" /> Nothing is shut
        </p>
        <h2 className="mt-2 text-step font-normal tracking-[-0.02em]">
          <b className="font-semibold">{device.handle}</b> is ready
        </h2>
        <RunButtons device={device} />
        <JobProgress device={device} />
      </section>
    );
  }
  return (
    <section aria-label="Current step" aria-live="polite" className="flex gap-6">
      <div className="min-w-0 grow">
        <p className="flex items-center gap-2 text-caption text-secondary">
          <WhoSign who={step.who} />{" "}
          {step.who === "hands" && device.borrowed_from ? "With hands over there" : whoWords[step.who]}
          {step.minutes === 1 ? ", about a minute" : step.minutes > 1 ? `, about ${step.minutes} minutes` : ""}
        </p>
        <h2 className="mt-2 text-step font-normal tracking-[-0.02em]">
          <Emphasis text={step.text} />
        </h2>
        {step.missing && (
          <p
            role="alert"
            aria-label="What is missing"
            className="mt-3 max-w-prose rounded-lg bg-(--lamp-tint) px-3 py-2 text-row"
          >
            <Emphasis text={step.missing} />
          </p>
        )}
        <Where step={step} />
        {step.note && (
          <p className="mt-3 max-w-prose text-secondary">
            <Emphasis text={step.note} />
          </p>
        )}
        {step.risk && (
          <p className="mt-2 max-w-prose text-secondary">
            It will warn you: <Emphasis text={step.risk} />
          </p>
        )}
        {step.sight && (
          <p className="mt-2 max-w-prose text-secondary">
            You will see: <Emphasis text={step.sight} />
          </p>
        )}
        {step.search && (
          <p className="mt-2 max-w-prose text-secondary">
            The settings’ own search finds it by the word <b className="font-semibold">{step.search}</b>.
          </p>
        )}
        {step.denied && (
          <p role="alert" className="mt-2 max-w-prose rounded-lg bg-(--lamp-tint) px-3 py-2 text-row">
            <b className="font-semibold">What is observed counts.</b> {step.denied.by} said at{" "}
            {clockText(step.denied.at)} that this is done; the bench sees that it is not.
          </p>
        )}
        {step.account && (
          <p className="mt-5">
            <Link className="press press-main" to="/keys">
              Sign in on the page Keys
            </Link>
          </p>
        )}
        <Action prep={prep} step={step} />
        <JobProgress device={device} />
      </div>
      {step.draw && <TapDrawing drawing={step.draw} />}
    </section>
  );
}

function Where({ step }: { step: StepOf }) {
  if (step.where.length === 0) return null;
  return (
    <ol aria-label="Where" className="mt-3 flex flex-wrap gap-x-2">
      {step.where.map((w, i) => (
        <li
          key={i}
          className="after:ml-2 after:text-secondary after:content-['›'] last:font-semibold last:after:content-none"
        >
          {w}
        </li>
      ))}
    </ol>
  );
}

/** What one can press for a step: nothing where the bench sees by itself that it is done. */
function Action({ prep, step }: { prep: Prep; step: StepOf }) {
  const { device } = prep;
  if (device.shown_key) return <PinKey device={device} />;
  switch (step.action) {
    case "driver.install":
      return <DriverOffer prep={prep} />;
    case "support.fetch":
      if (prep.need) return <SupportOffer need={prep.need} device={device.handle} />;
      break;
    case "host.give":
      if (step.missing === "") return <TakeBack device={device} />;
      break;
    case "link.restart":
      return (
        <div className="mt-5">
          <RestartLink handle={device.handle} main />
        </div>
      );
    case "device.register":
      if (step.missing === "") return <RegisterButton handle={device.handle} />;
      break;
    case "statement.put":
      if (step.missing === "") return <AllowButton handle={device.handle} />;
      break;
    case "introduction.begin":
      return <IntroducePanel device={device} />;
    case "admission.ask":
      return <AskButton device={device} />;
    case "app.try":
      return <RunButtons device={device} />;
  }
  if (step.tell) return <TellButton handle={device.handle} step={step.id} seen={step.seen} />;
  if (device.first === "kit") return <KitOffer />;
  if (step.who === "computer") return null;
  return <p className="mt-5 text-caption text-secondary">The bench sees when it is done.</p>;
}

function AskButton({ device: { handle, gates, asking_seconds } }: { device: Device }) {
  const ask = useAsk(handle);
  if (gates["admitted"] === "waiting")
    return (
      <p className="mt-5 font-semibold">
        It is asking now. Answer on its screen
        {asking_seconds > 0 && (
          <>
            {" "}
            within <Countdown seconds={asking_seconds} />
          </>
        )}
        .
      </p>
    );
  return (
    <div className="mt-5">
      <button type="button" className="press press-main" disabled={ask.isPending} onClick={() => ask.mutate()}>
        Show the request on {handle}
      </button>
      <ProblemText error={ask.error} />
    </div>
  );
}

function TellButton({ handle, step, seen }: { handle: string; step: string; seen: boolean }) {
  const tell = useTell(handle);
  return (
    <div className="mt-5">
      <button type="button" className="press" disabled={tell.isPending} onClick={() => tell.mutate(step)}>
        I have done that
      </button>
      <p className="mt-2 text-caption text-secondary">
        {seen
          ? "Or continue: the bench sees when it is done."
          : "The bench cannot see when this step is done, only when the gate opens."}
      </p>
      <ProblemText error={tell.error} />
    </div>
  );
}
