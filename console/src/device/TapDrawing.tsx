import type { Step } from "../api/types";
import { Outline, places } from "./Outline";

/** A line drawing of where on the screen to tap; it never looks like the device's own screen. */
export function TapDrawing({ drawing }: { drawing: NonNullable<Step["draw"]> }) {
  const p = places[drawing.form];
  // A round screen shows one row at a time.
  const rows = drawing.form === "round" ? [] : Array.from({ length: drawing.rows }, (_, i) => i + 1);
  const y = (row: number) => p.top + (row - 1) * p.pitch;
  const tab = drawing.form === "round" ? p.top : y(drawing.row);
  const right = p.left + p.width;
  return (
    <svg
      viewBox="0 0 232 330"
      width="232"
      height="330"
      className="hidden shrink-0 md:block"
      role="img"
      aria-label={`On the page ${drawing.title}: tap ${drawing.word}`}
      fill="none"
      strokeLinecap="round"
    >
      <Outline form={drawing.form} />
      {rows.map((r) => (
        <g key={r} className="stroke-base-content/38">
          <path d={`M${p.left + 14} ${y(r)}h${r % 2 ? 48 : 70}`} strokeWidth="2.6" />
          <path d={`M${p.left + 14} ${y(r) + 11}h${r % 2 ? 68 : 42}`} strokeWidth="1.6" />
        </g>
      ))}
      <rect x={p.left} y={tab - 17} width={p.width} height="40" rx="8" className="fill-accent" />
      <text x={p.left + 14} y={tab + 8} className="fill-accent-content" fontSize="15" fontWeight="600">
        {drawing.word}
      </text>
      <text
        x={p.title.x}
        y={p.title.y}
        textAnchor={p.title.anchor}
        className="fill-base-content"
        fontSize="13"
        fontWeight="600"
      >
        {drawing.title}
      </text>
      <g className="stroke-base-content" strokeWidth="1.5">
        <circle cx={right - 10} cy={tab + 3} r="10" />
        <circle cx={right - 10} cy={tab + 3} r="20" opacity=".55" />
      </g>
      <path
        transform={`translate(${right - 22} ${tab - 4})`}
        d="M9 9c0-4 6-4 6 0v20l2 1v-6c0-3 6-3 6 1v6c0-3 6-3 6 1v5c0-3 6-2 6 1v14c0 12-6 18-14 18h-3c-6 0-9-3-12-8L-3 41c-2-4 4-7 7-3l5 5z"
        className="fill-base-100 stroke-base-content"
        strokeWidth="1.6"
        strokeLinejoin="round"
      />
    </svg>
  );
}
