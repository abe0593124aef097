import { useAskAll } from "../api/queries";
import type { RoundGroup } from "../api/types";
import { ProblemText } from "../parts/ProblemText";

/** Has all devices of a group ask their owners; each is ticked off as its answer is seen. */
export function AskAll({ group }: { group: RoundGroup }) {
  const ask = useAskAll();
  const waiting = group.devices.filter((d) => d.gates["admitted"] === "waiting").length;
  if (group.devices.length < 2 || group.devices[0]?.next?.action !== "admission.ask") return null;
  return (
    <div className="pt-2">
      <button
        type="button"
        className="press press-small h-7"
        disabled={ask.isPending || waiting === group.devices.length}
        onClick={() => ask.mutate(group.devices.map((d) => d.handle))}
      >
        Show the request on all {group.devices.length}
      </button>
      {waiting > 0 && (
        <p className="mt-1 text-caption text-secondary">
          {waiting} of them {waiting === 1 ? "is" : "are"} asking now. What was answered leaves this list.
        </p>
      )}
      <ProblemText error={ask.error} />
    </div>
  );
}
