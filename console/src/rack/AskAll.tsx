import { useAskAll } from "../api/queries";
import type { RoundGroup } from "../api/types";
import { Countdown } from "../parts/Countdown";
import { ProblemText } from "../parts/ProblemText";

/** Has all devices of a group ask their owners; each is ticked off as its answer is seen. */
export function AskAll({ group }: { group: RoundGroup }) {
  const ask = useAskAll();
  const waiting = group.devices.filter((d) => d.gates["admitted"] === "waiting");
  if (group.devices.length < 2 || group.devices[0]?.next?.action !== "admission.ask") return null;
  return (
    <div className="pt-2">
      <button
        type="button"
        className="press press-small h-7"
        disabled={ask.isPending || waiting.length === group.devices.length}
        onClick={() => ask.mutate(group.devices.map((d) => d.handle))}
      >
        Show the request on all {group.devices.length}
      </button>
      {waiting.length > 0 && (
        <div className="mt-1 text-caption text-secondary">
          <p>These are asking now, for the time shown. Answered requests leave this list.</p>
          <ul>
            {waiting.map((d) => (
              <li key={d.handle}>
                <b className="font-semibold">{d.handle}</b>{" "}
                {d.asking_seconds > 0 ? <Countdown seconds={d.asking_seconds} /> : "asks"}
              </li>
            ))}
          </ul>
        </div>
      )}
      <ProblemText error={ask.error} />
    </div>
  );
}
