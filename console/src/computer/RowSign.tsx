import { Cpu, Smartphone, SquareDashed } from "lucide-react";
import type { TreeRow } from "../api/types";

const drawn = { size: 16, strokeWidth: 1.5, "aria-hidden": true, className: "shrink-0" } as const;

/** What a row is: its port as a numbered square, and its sign; of an interface a pin, hollow without a driver. */
export function RowSign({ row }: { row: TreeRow }) {
  if (row.kind === "interface")
    return (
      <svg width="18" height="18" viewBox="0 0 18 18" aria-hidden="true" className="shrink-0 stroke-(--road)">
        <circle cx="9" cy="9" r="3.5" strokeWidth="1.5" className={row.driver ? "fill-(--road)" : "fill-none"} />
      </svg>
    );
  return (
    <>
      {row.port > 0 && (
        <span className="mr-2 inline-flex size-[18px] shrink-0 items-center justify-center rounded border border-(--road) text-caption leading-none">
          <span className="sr-only">port </span>
          {row.port}
        </span>
      )}
      {row.kind === "controller" && <Cpu {...drawn} />}
      {row.kind === "hub" && <HubSign />}
      {row.kind === "device" && (row.device ? <Smartphone {...drawn} /> : <SquareDashed {...drawn} />)}
    </>
  );
}

const HubSign = () => (
  <svg
    width="16"
    height="16"
    viewBox="0 0 16 16"
    aria-hidden="true"
    fill="none"
    stroke="currentColor"
    strokeWidth="1.5"
  >
    <rect x="1" y="4.5" width="14" height="7" rx="1" />
    <path d="M4 7v2M6.7 7v2M9.3 7v2M12 7v2" />
  </svg>
);
