import { Link } from "react-router";
import { useExplain } from "../api/statements";
import { AllowButton } from "../device/AllowButton";
import { RegisterButton } from "../device/RegisterButton";
import { ProblemText } from "../parts/ProblemText";
import type { Chosen } from "./chosenCell";

/** Why the chosen app may run on the chosen device, or what stands against it, with the one thing to do. */
export function MayRunReason({ chosen: { app, device } }: { chosen: Chosen }) {
  const explain = useExplain(app, device);
  const e = explain.data;
  if (!e) return <ProblemText error={explain.error} />;
  return (
    <div
      role="region"
      aria-label="The reason"
      className={`mt-2 rounded-lg px-4 py-3 text-row ${e.allowed ? "bg-base-200" : "bg-(--lamp-tint)"}`}
    >
      <p>
        <b className="font-semibold">
          {app} on {device}:
        </b>{" "}
        {e.text}
        {e.statement && e.line && (
          <span className="ml-2 text-caption text-secondary">
            by its line <span className="mono">{e.line}</span>
          </span>
        )}
      </p>
      {e.remedy && <p className="mt-1 text-caption text-secondary">{e.remedy}</p>}
      {!e.allowed && <Act app={app} device={device} gate={e.gate} state={e.state} line={e.line} />}
    </div>
  );
}

/** The one thing to do about it here; what wants hands is done on the device's page. */
function Act({ app, device, gate, state, line }: Chosen & { gate: string; state: string; line: string }) {
  if (gate === "registered") return <RegisterButton handle={device} />;
  if ((gate === "granted" || gate === "token") && state === "shut" && line !== "typ")
    return <AllowButton handle={device} app={app} />;
  if (gate === "") return null;
  return (
    <p className="mt-3">
      <Link className="press" to={`/devices/${device}`}>
        Go on at {device}
      </Link>
    </p>
  );
}
