import type { Device } from "../api/types";
import { Gate } from "../parts/Gate";
import { gates, roadEnd } from "../parts/gates";
import { leftText } from "../parts/time";
import { useMeaning } from "../parts/useMeaning";

/** The road of one device, with the gates' words below. */
export function GateStrip({ device }: { device: Device }) {
  const shown = gates.filter((g) => g in device.gates);
  const meaning = useMeaning();
  const stop = roadEnd(device, shown);
  // When a loan ends is said with the loan.
  const endings = device.endings.filter((e) => !(device.borrowed_from && e.gate === "seen"));
  return (
    <>
      <ol
        aria-label="Gates"
        className="mt-4 grid"
        style={{ gridTemplateColumns: `repeat(${shown.length}, minmax(0, 1fr))` }}
      >
        {shown.map((g, i) => (
          <li key={g} className="relative text-center" title={`${g}: ${tellOf(device, g)}. ${meaning(g)}`}>
            <span
              className={`flex h-[42px] items-center justify-center ${i < stop ? "road" : i === stop ? "road road-half" : ""}`}
            >
              <span className="relative max-md:[&_svg]:size-5">
                <Gate state={device.gates[g]!} first={g === device.first} size={30} />
              </span>
            </span>
            <span
              className={`text-caption ${g === device.first ? "font-semibold max-md:whitespace-nowrap" : "text-secondary max-md:sr-only"}`}
            >
              {g}
              <span className="sr-only">: {tellOf(device, g)}</span>
            </span>
          </li>
        ))}
      </ol>
      {endings.length > 0 && (
        <p className="mt-2 text-caption text-secondary">{endings.map((e) => `${e.gate} ${leftText(e)}`).join(", ")}</p>
      )}
    </>
  );
}

/** The gate's state, what it waits for, and when it will shut. */
function tellOf(device: Device, gate: string) {
  const waits = device.waits[gate];
  const end = device.endings.find((e) => e.gate === gate);
  return [device.gates[gate], waits && `waits for ${waits.join(", ")}`, end && leftText(end)]
    .filter(Boolean)
    .join(", ");
}
