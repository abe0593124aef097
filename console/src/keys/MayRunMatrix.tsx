import type { MayRun } from "../api/types";
import { Gate } from "../parts/Gate";
import { dayText } from "../parts/time";
import type { Chosen } from "./chosenCell";

type Cell = MayRun["apps"][number]["cells"][number];

/** What may run where: a row an app, a column a device. */
export function MayRunMatrix({
  apps,
  chosen,
  choose,
}: {
  apps: MayRun["apps"];
  chosen: Chosen | undefined;
  choose: (c: Chosen) => void;
}) {
  const devices = apps[0]?.cells.map((c) => c.device) ?? [];
  return (
    <div className="mt-1 overflow-x-auto">
      <table className="w-full min-w-max border-collapse text-row">
        <thead>
          <tr>
            <td className="w-[170px]" />
            {groups(devices).map(([stem, n]) => (
              <th key={stem} scope="colgroup" colSpan={n} className="px-1 font-normal">
                <span className="block border-b border-base-300 pb-1 text-caption text-secondary">{stem}</span>
              </th>
            ))}
          </tr>
          <tr>
            <td />
            {devices.map((d) => (
              <th key={d} scope="col" className="py-1 text-caption font-normal text-secondary">
                <span className={d === chosen?.device ? "font-semibold text-base-content" : ""}>
                  <span className="sr-only">{d}</span>
                  <span aria-hidden="true">{d.slice(d.lastIndexOf("-") + 1)}</span>
                </span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {apps.map((a) => (
            <tr key={a.app} className="h-11 border-t border-base-300">
              <th scope="row" className="pr-3 text-left font-semibold">
                {a.app}
              </th>
              {a.cells.map((c) => {
                const here = c.device === chosen?.device && a.app === chosen.app;
                return (
                  <td key={c.device} className="p-0 text-center">
                    <button
                      type="button"
                      className="relative inline-flex size-9 cursor-pointer items-center justify-center rounded-lg hover:bg-base-200"
                      aria-pressed={here}
                      aria-label={`${a.app} on ${c.device}: ${told(c)}`}
                      title={`${a.app} on ${c.device}: ${told(c)}`}
                      onClick={() => choose({ app: a.app, device: c.device })}
                    >
                      {c.unfit ? (
                        <span className="text-(--faint)">×</span>
                      ) : (
                        <Gate state={c.state} first={here && !passes(c)} size={21} />
                      )}
                      {c.ends && <span className="absolute top-1 right-1 size-1.5 rounded-full bg-accent" />}
                    </button>
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const passes = (c: Cell) => c.state === "open" || c.state === "not needed";

function told(c: Cell) {
  if (c.unfit) return "not made for it";
  switch (c.state) {
    case "open":
      return c.ends ? `may run until ${dayText(c.ends)}` : "may run";
    case "not needed":
      return "needs nothing";
    case "unknown":
      return "not known";
    case "waiting":
      return "waits for an answer";
  }
  return `may not run, ${c.gate}`;
}

/** Neighbours whose handles differ only in their number. */
function groups(devices: string[]): [string, number][] {
  const out: [string, number][] = [];
  for (const d of devices) {
    const stem = d.replace(/-[^-]*$/, "");
    const last = out.at(-1);
    if (last?.[0] === stem) last[1]++;
    else out.push([stem, 1]);
  }
  return out;
}
