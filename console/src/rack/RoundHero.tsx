import { Link } from "react-router";
import type { RoundGroup } from "../api/types";
import { plain } from "../parts/Emphasis";
import { Gate } from "../parts/Gate";
import { gates, roadEnd } from "../parts/gates";
import { AskAll } from "./AskAll";
import { FindButton } from "./FindButton";

/** The first group of a round, large, with the road of each of its devices. */
export function RoundHero({ group }: { group: RoundGroup }) {
  const n = group.devices.length;
  const first = group.devices[0]!;
  const shown = gates.filter((g) => first.gates[g]);
  return (
    <section
      aria-label="Begin here"
      className="grid gap-8 bg-base-200 px-5 py-7 md:grid-cols-[88px_400px_minmax(0,1fr)] md:px-8"
    >
      <p aria-hidden="true" className="text-[104px]/[96px] font-light tracking-[-0.045em]">
        {n}
      </p>
      <div>
        <h2 className="text-lead font-semibold">
          <span className="sr-only">{n} </span>
          {n === 1 ? "device waits" : "devices wait"}: {lower(plain(group.title))}
        </h2>
        {group.note && <p className="mt-2 text-secondary">{plain(group.note)}</p>}
        {group.minutes > 0 && <p className="mt-2 text-secondary">About {group.minutes} min for all.</p>}
        <p className="mt-4 flex items-center gap-5">
          <Link className="press press-main" to={`/devices/${first.handle}`}>
            Begin with {first.handle}
          </Link>
          <Link className="border-b border-(--road) text-row" to={`/devices/${first.handle}#why`}>
            Why?
          </Link>
        </p>
        <AskAll group={group} />
      </div>
      <div className="min-w-0 overflow-x-auto" role="group" aria-label="Their roads">
        <table className="ml-auto">
          <thead>
            <tr className="h-6">
              <td />
              {shown.map((g) => (
                <th key={g} scope="col" className="relative w-[38px] text-caption font-semibold">
                  <span className={g === group.gate ? "absolute bottom-1 left-1/2 -translate-x-1/2" : "sr-only"}>
                    {g}
                  </span>
                </th>
              ))}
              <td />
            </tr>
          </thead>
          <tbody>
            {group.devices.slice(0, 12).map((d) => {
              const stop = roadEnd(d, shown);
              return (
                <tr key={d.handle} className="h-[34px]">
                  <th scope="row" className="pr-4 text-left font-semibold">
                    <Link to={`/devices/${d.handle}`} className="inline-flex min-h-6 items-center hover:underline">
                      {d.handle}
                    </Link>
                  </th>
                  {shown.map((g, i) => (
                    <td
                      key={g}
                      aria-label={`${g}: ${d.gates[g]}`}
                      className={`w-[38px] p-0 ${i < stop ? "road" : i === stop ? "road road-half" : ""}`}
                    >
                      <span className="relative grid place-items-center">
                        <Gate state={d.gates[g]!} first={g === d.first} size={20} />
                      </span>
                    </td>
                  ))}
                  <td className="pl-3">
                    <FindButton device={d} />
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
        {n > 12 && <p className="text-caption text-secondary">and {n - 12} more</p>}
      </div>
    </section>
  );
}

const lower = (s: string) => s.replace(/^./, (c) => c.toLowerCase());
