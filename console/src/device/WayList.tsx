import { useSetWireless } from "../api/network";
import type { Device, Link } from "../api/types";
import { hourText } from "../parts/time";
import { ProblemText } from "../parts/ProblemText";

const wayText = (w: Link) =>
  w.way === "wireless"
    ? `without a cable, at ${w.port}`
    : w.way === "companion"
      ? `through ${w.port}`
      : `by ${w.way}, ${w.port}${w.host ? ` of ${w.host}` : ""}`;

const stateText: Record<string, string> = {
  linked: "linked",
  visitor: "not let in yet",
  asleep: "asleep",
  down: "no link",
};

/** The ways by which the device is reached, the one that is used first, and one more that it can have. */
export function WayList({ device }: { device: Device }) {
  const set = useSetWireless(device.handle);
  return (
    <div className="ml-auto text-right text-caption text-secondary">
      <ul aria-label="Ways">
        {device.ways.length === 0 && <li>not reached now</li>}
        {device.ways.map((w) => (
          <li key={`${w.way} ${w.host} ${w.port}`}>
            {wayText(w)}
            {device.ways.length > 1 && `: ${stateText[w.state]}`}
            {w.asleep && device.ways.length === 1 && `, asleep since ${hourText(w.asleep)}`}
          </li>
        ))}
      </ul>
      {device.may_wireless && (
        <button
          type="button"
          className="press press-small mt-1"
          disabled={set.isPending}
          onClick={() => set.mutate(true)}
        >
          Also reach it without the cable
        </button>
      )}
      <ProblemText error={set.error} />
    </div>
  );
}
