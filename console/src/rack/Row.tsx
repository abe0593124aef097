import { Smartphone, SquareDashed } from "lucide-react";
import { memo, type CSSProperties } from "react";
import { Link } from "react-router";
import type { Device } from "../api/types";
import { plain } from "../parts/Emphasis";
import { Gate } from "../parts/Gate";
import { isReady, roadEnd } from "../parts/gates";
import { WhoSign } from "../parts/Signs";
import { leftText } from "../parts/time";

type Props = {
  device: Device;
  gates: readonly string[];
  row: number;
  /** the column that has the focus in this row; -1 for none */
  column: number;
  template: CSSProperties;
};

export const Row = memo(function Row({ device: d, gates, row, column: at, template }: Props) {
  const here = (column: number) => ({
    "data-at": `${row}/${column}`,
    tabIndex: at === column ? 0 : -1,
  });
  const to = `/devices/${d.handle}`;
  const stop = roadEnd(d, gates);
  const Body = d.summary === "unseen" ? SquareDashed : Smartphone;
  return (
    <div
      role="row"
      aria-rowindex={row + 2}
      className="-mx-2.5 grid min-h-[33px] grid-cols-[minmax(0,1fr)_44px] items-stretch rounded-lg px-2.5 py-2 hover:bg-base-200 has-focus-visible:bg-base-200 md:grid-cols-(--columns) md:py-0"
      style={template}
    >
      <span role="rowheader" className="flex items-center gap-2.5">
        <Body size={16} strokeWidth={1.5} aria-hidden="true" className="shrink-0 text-secondary" />
        <Link to={to} className="shrink-0 font-semibold whitespace-nowrap" {...here(0)}>
          {d.handle}
        </Link>
        <span className="truncate text-caption text-secondary">
          {d.maker} {d.model} {d.release}
        </span>
      </span>
      {gates.map((g, i) => (
        <span
          role="gridcell"
          key={g}
          aria-label={`${d.handle}, ${g}: ${d.gates[g] ?? "not shown"}${g === d.first ? ", the first that is not open" : ""}`}
          title={`${d.handle}, ${g}: ${d.gates[g]}`}
          className={`${g === d.first ? "flex" : "hidden"} items-center justify-center rounded-md md:flex focus-visible:-outline-offset-2 ${
            i < stop ? "md:road" : i === stop ? "md:road md:road-half" : ""
          }`}
          {...here(i + 1)}
        >
          <span className="relative grid place-items-center">
            <Gate state={d.gates[g] ?? "unknown"} first={g === d.first} />
          </span>
        </span>
      ))}
      <span role="gridcell" className="col-span-2 flex items-center gap-3 pt-1 text-row md:col-span-1 md:pt-0 md:pl-6">
        <Next device={d} />
        <Link to={to} className="ml-auto shrink-0 md:w-[104px] press-link" {...here(gates.length + 1)}>
          {d.next || !isReady(d) ? "Go on" : "Run an app"}
          <span className="sr-only"> with {d.handle}</span>
        </Link>
      </span>
    </div>
  );
});

function Next({ device: d }: { device: Device }) {
  const ending = d.endings[0];
  if (d.summary === "retiring" || d.summary === "retired")
    return (
      <span className="flex items-center gap-2">
        <WhoSign who="automatic" /> {d.summary === "retiring" ? "Being retired" : "Retired"}
      </span>
    );
  if (!d.next && !d.working) {
    return isReady(d) ? (
      <span className="flex items-center gap-2 text-success">
        <WhoSign who="ready" /> {d.reserved ? `Reserved ${d.reserved}` : "Ready"}
        {ending?.soon && <strong className="font-semibold">{`${ending.gate} ${leftText(ending)}`}</strong>}
      </span>
    ) : (
      <span className="flex items-center gap-2">
        <WhoSign who="computer" /> {plain(d.says)}
      </span>
    );
  }
  return (
    <span className="flex items-center gap-2">
      <WhoSign who={d.next && !d.working ? d.next.who : "automatic"} />
      {d.working || plain(d.next?.title ?? "")}
    </span>
  );
}
