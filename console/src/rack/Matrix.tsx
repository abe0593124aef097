import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState, type CSSProperties, type KeyboardEvent } from "react";
import type { Device } from "../api/types";
import { gates } from "../parts/gates";
import { useMeaning } from "../parts/useMeaning";
import { Row } from "./Row";

const long = 60; // rows; a longer rack draws only those that are seen
const rowHeight = 33;

/** The matrix, as a grid that one goes through with the arrow keys. */
export function Matrix({ devices, withApp }: { devices: Device[]; withApp: boolean }) {
  const any = gates.filter((g) => withApp || devices.some((d) => g in d.gates)).join(" ");
  const shown = useMemo(() => any.split(" "), [any]);
  const columns = shown.length + 2;
  const widest = useMemo(() => Math.max(0, ...devices.map(nameWidth)), [devices]);
  const template = useMemo(() => templateOf(shown.length, widest), [shown.length, widest]);
  const meaning = useMeaning();
  const [at, setAt] = useState({ row: 0, column: 0 });
  const grid = useRef<HTMLDivElement>(null);
  const isLong = devices.length > long;
  const virtual = useWindowVirtualizer({
    count: devices.length,
    enabled: isLong,
    estimateSize: () => rowHeight,
    overscan: 8,
    scrollMargin: grid.current?.offsetTop ?? 0,
  });
  const rows = isLong ? virtual.getVirtualItems().map((v) => v.index) : devices.map((_, i) => i);
  const first = rows[0] ?? 0;

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
    if (isLong) virtual.scrollToIndex(row);
    const focus = () => grid.current?.querySelector<HTMLElement>(`[data-at="${row}/${column}"]`)?.focus();
    focus();
    if (isLong) window.requestAnimationFrame(focus); // its row may have to be drawn first
  };

  return (
    <div
      ref={grid}
      role="grid"
      aria-label="Devices and their gates"
      aria-rowcount={devices.length + 1}
      className="mt-2"
      onKeyDown={move}
      tabIndex={-1}
    >
      <div
        role="row"
        aria-rowindex={1}
        className="sticky top-0 z-10 hidden h-[38px] items-end bg-base-100 text-caption text-secondary md:grid md:grid-cols-(--columns)"
        style={template}
      >
        <span role="columnheader">Device</span>
        {shown.map((g, i) => (
          <span role="columnheader" key={g} title={meaning(g)} className="relative flex h-full justify-center">
            <span className={`absolute whitespace-nowrap ${i % 2 ? "bottom-4" : "bottom-0"}`}>{g}</span>
            {i % 2 === 1 && <span aria-hidden="true" className="absolute bottom-0 h-[14px] w-px bg-base-300" />}
          </span>
        ))}
        <span role="columnheader" className="pl-6">
          Next step
        </span>
      </div>
      {isLong && <div role="presentation" style={{ height: first * rowHeight }} />}
      {rows.map((i) => (
        <Row
          key={devices[i]!.handle}
          device={devices[i]!}
          gates={shown}
          row={i}
          column={at.row === i ? at.column : -1}
          template={template}
        />
      ))}
      {isLong && <div role="presentation" style={{ height: (devices.length - first - rows.length) * rowHeight }} />}
    </div>
  );
}

const clamp = (n: number, size: number) => Math.max(0, Math.min(size - 1, n));

/** About how wide a device's name is with its maker, model and release, in pixels. */
const nameWidth = (d: Device) => 50 + 8.6 * d.handle.length + 6.6 * `${d.maker} ${d.model} ${d.release}`.length;

/** Names are whole where there is room; gates and then names give way before the next step does. */
const templateOf = (count: number, widest: number) =>
  ({
    "--columns": `minmax(214px, ${Math.ceil(Math.min(Math.max(widest, 214), 420))}px) repeat(${count}, minmax(28px, 44px)) minmax(230px, 1fr)`,
  }) as CSSProperties;
