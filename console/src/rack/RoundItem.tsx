import { Link } from "react-router";
import type { Device, RoundGroup } from "../api/types";
import { plain } from "../parts/Emphasis";
import { gates } from "../parts/gates";
import { AskAll } from "./AskAll";
import { FindButton } from "./FindButton";
import { TryAll } from "./TryAll";

/** One group of a round: what is needed, and the devices in the order to take them. */
export function RoundItem({ group }: { group: RoundGroup }) {
  return (
    <li className="py-3">
      <p className="text-[15px]/[20px]">{plain(group.title)}</p>
      <ul>
        {group.devices.map((d) => (
          <li key={d.handle} className="flex items-center gap-4 pt-1 text-row">
            <b className="w-[92px] truncate font-semibold">{d.handle}</b>
            <MiniRoad device={d} />
            <span className="text-caption text-secondary">{d.first}</span>
            <span className="ml-auto flex items-center gap-3">
              <FindButton device={d} />
              <Link className="press-link" to={`/devices/${d.handle}`}>
                Go on<span className="sr-only"> with {d.handle}</span>
              </Link>
            </span>
          </li>
        ))}
      </ul>
      <AskAll group={group} />
      {group.devices[0]?.next?.action === "app.try" && <TryAll handles={group.devices.map((d) => d.handle)} />}
    </li>
  );
}

/** Twelve marks; a tall one where it stands. */
function MiniRoad({ device }: { device: Device }) {
  const at = gates.indexOf(device.first as (typeof gates)[number]);
  return (
    <span aria-hidden="true" className="flex h-3 items-center gap-[3px]">
      {gates.map((g, i) => (
        <span
          key={g}
          className={
            i === at
              ? "h-3 w-1.5 rounded-[1px] bg-base-content"
              : `h-[3px] w-1.5 ${i < at ? "bg-(--road)" : "bg-base-300"}`
          }
        />
      ))}
    </span>
  );
}
