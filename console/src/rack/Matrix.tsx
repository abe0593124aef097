import { useRef, useState, type CSSProperties, type KeyboardEvent } from "react";
import type { Device } from "../api/types";
import { gates } from "../parts/gates";
import { Row } from "./Row";

/** The matrix, as a grid that one goes through with the arrow keys. */
export function Matrix({ devices, withApp }: { devices: Device[]; withApp: boolean }) {
  const shown = gates.filter((g) => withApp || devices.some((d) => g in d.gates));
  const [at, setAt] = useState({ row: 0, column: 0 });
  const grid = useRef<HTMLDivElement>(null);
  const columns = shown.length + 2;

  const move = (e: KeyboardEvent) => {
    const by: Record<string, [number, number]> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      Home: [0, -columns],
      End: [0, columns],
    };
    const step = by[e.key];
    if (!step) return;
    e.preventDefault();
    const row = clamp(at.row + step[0], devices.length);
    const column = clamp(at.column + step[1], columns);
    setAt({ row, column });
    grid.current?.querySelector<HTMLElement>(`[data-at="${row}/${column}"]`)?.focus();
  };

  return (
    <div ref={grid} role="grid" aria-label="Devices and their gates" className="mt-2" onKeyDown={move} tabIndex={-1}>
      <div
        role="row"
        className="hidden h-[38px] items-end text-caption text-secondary md:grid md:grid-cols-(--columns)"
        style={template(shown.length)}
      >
        <span role="columnheader">Device</span>
        {shown.map((g, i) => (
          <span role="columnheader" key={g} className="relative flex h-full justify-center">
            <span className={`absolute whitespace-nowrap ${i % 2 ? "bottom-4" : "bottom-0"}`}>{g}</span>
            {i % 2 === 1 && <span aria-hidden="true" className="absolute bottom-0 h-[14px] w-px bg-base-300" />}
          </span>
        ))}
        <span role="columnheader" className="pl-6">
          Next step
        </span>
      </div>
      {devices.map((d, i) => (
        <Row key={d.handle} device={d} gates={shown} row={i} at={at} template={template(shown.length)} />
      ))}
    </div>
  );
}

const clamp = (n: number, size: number) => Math.max(0, Math.min(size - 1, n));

const template = (count: number) =>
  ({ "--columns": `238px repeat(${count}, 44px) minmax(180px, 1fr)` }) as CSSProperties;
