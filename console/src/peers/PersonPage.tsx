import { useState } from "react";
import { useDevices, useBench } from "../api/queries";
import { Mark } from "../app/Mark";
import { LogPanel } from "../device/LogPanel";
import { ScreenPanel } from "../device/ScreenPanel";
import { ProblemText } from "../parts/ProblemText";
import { headerText } from "../parts/time";
import { PersonRow } from "./PersonRow";

/** The devices that somebody without a bench may see: a rack of these alone, and the screen and log of one. */
export function PersonPage() {
  const bench = useBench();
  const devices = useDevices("");
  const [chosen, setChosen] = useState("");
  const items = devices.data?.items ?? [];
  const device = items.find((d) => d.handle === chosen) ?? items[0];
  const linked = device?.gates["linked"] === "open";
  const touches = bench.data?.may.includes("use") ?? false;
  return (
    <>
      <header className="flex items-center gap-3 border-b border-base-300 px-5 py-3">
        <Mark />
        <h1 className="text-section font-semibold">Devices of {bench.data?.name}</h1>
        <span className="ml-auto text-caption text-secondary">
          {touches ? "You may touch their screens" : "You see their screens, and cannot touch them"}
          {bench.data?.may_until && `, until ${headerText(bench.data.may_until)}`}
        </span>
      </header>
      <main className="mx-auto grid max-w-5xl gap-x-10 gap-y-6 px-5 py-6 md:grid-cols-[minmax(0,320px)_minmax(0,1fr)]">
        <section aria-label="Devices">
          <ProblemText error={devices.error} />
          {devices.data && items.length === 0 && (
            <p className="text-secondary">None of your devices is on the rack now.</p>
          )}
          <ul className="grid gap-1">
            {items.map((d) => (
              <PersonRow
                key={d.handle}
                device={d}
                current={d.handle === device?.handle}
                choose={() => setChosen(d.handle)}
              />
            ))}
          </ul>
        </section>
        {device && (
          <section aria-label={device.handle}>
            <h2 className="text-lead font-semibold">{device.handle}</h2>
            <ScreenPanel key={device.handle} handle={device.handle} linked={linked} looks={!touches} open />
            <LogPanel handle={device.handle} linked={linked} asleep={false} />
          </section>
        )}
      </main>
    </>
  );
}
