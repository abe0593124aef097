import { Link } from "react-router";
import type { TreeRow as Row } from "../api/types";
import { Gate } from "../parts/Gate";
import { RowSign } from "./RowSign";
import { Wires } from "./Wires";
import { faultOf, speedText } from "./faults";

/** One controller, hub, device or interface. What is wrong takes the place of driver and holder. */
export function TreeRow({ row, goes }: { row: Row; goes: boolean[] }) {
  const name = row.kind === "interface" ? row.name || "without a name" : row.name || row.kind;
  return (
    <li
      className={`flex flex-wrap items-center rounded-lg md:grid md:grid-cols-[minmax(0,322px)_104px_132px_minmax(0,1fr)] ${row.worst ? "bg-(--lamp-tint)" : ""}`}
    >
      <span className={`flex h-[26px] min-w-0 items-center ${row.trouble ? "basis-full" : "flex-1"}`}>
        <Wires depth={row.depth} goes={goes} />
        <RowSign row={row} />
        <span className="ml-2 min-w-0 truncate text-row" title={name}>
          {row.kind === "device" && row.device && (
            <Link to={`/devices/${row.device}`} className="press-link mr-1.5 text-base-content">
              <b className="font-semibold">{row.device}</b>
            </Link>
          )}
          <span className={row.device && row.kind === "device" ? "text-secondary" : ""}>{name}</span>{" "}
          <span className="mono text-secondary">{row.kind === "device" && row.device ? "" : row.usb}</span>
        </span>
      </span>
      <span className="hidden text-caption text-secondary md:block">{speedText(row.kbit_per_s)}</span>
      {row.trouble ? <Fault row={row} /> : <Driver row={row} />}
    </li>
  );
}

function Driver({ row }: { row: Row }) {
  const none = row.kind === "interface" && row.driver === "";
  return (
    <>
      <span className="max-w-[112px] truncate pl-3 text-row text-secondary md:max-w-none md:pl-0">
        {none ? "no driver" : row.driver}
      </span>
      <span className="hidden text-row text-secondary md:block">{row.holder}</span>
    </>
  );
}

function Fault({ row }: { row: Row }) {
  return (
    <span className="flex min-h-[26px] w-full min-w-0 items-center gap-2 pr-3 pl-8 text-row md:col-span-2 md:pl-0">
      {row.gate && (
        <span className="shrink-0" title={`It shuts the gate ${row.gate}.`}>
          <Gate state="shut" first={row.worst} size={16} />
          <span className="sr-only">{row.gate} is shut: </span>
        </span>
      )}
      {/* A row stays one line high, so that the wires beside it meet. */}
      <span className={`min-w-0 flex-1 md:truncate ${row.worst ? "font-semibold" : ""}`} title={faultOf(row)}>
        {faultOf(row)}
      </span>
      {row.device && (
        <Link
          to={`/devices/${row.device}`}
          className={row.worst ? "press press-main press-small" : "press-link"}
          aria-label={`Look at ${row.device}`}
        >
          Look at it
        </Link>
      )}
    </span>
  );
}
