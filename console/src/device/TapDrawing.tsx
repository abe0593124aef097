import type { Step } from "../api/types";

/** A line drawing of where on the screen to tap; it never looks like the device's own screen. */
export function TapDrawing({ drawing }: { drawing: NonNullable<Step["draw"]> }) {
  const rows = Array.from({ length: drawing.rows }, (_, i) => i + 1);
  const pitch = 40;
  const y = (row: number) => 44 + (row - 1) * pitch;
  const tab = y(drawing.row);
  return (
    <svg
      viewBox="0 0 232 330"
      width="232"
      height="330"
      className="hidden shrink-0 xl:block"
      role="img"
      aria-label={`On the page ${drawing.title}: tap ${drawing.word}`}
      fill="none"
      strokeLinecap="round"
    >
      <path
        d="M20 1.5H150A18 18 0 0 1 168 19V310A18 18 0 0 1 150 328H46A44 44 0 0 1 2 284V19A18 18 0 0 1 20 1.5Z"
        className="stroke-base-content"
        strokeWidth="1.6"
      />
      <path
        d={`M2 268Q60 254 110 262T168 258V310A18 18 0 0 1 150 328H46A44 44 0 0 1 2 284Z`}
        className="fill-base-content/12"
      />
      <path d="M20 12H56" className="stroke-base-content/60" strokeWidth="1.6" />
      <path d={`M20 34V${y(drawing.rows) + 16}`} className="stroke-base-content/40" strokeWidth="1.4" />
      {rows.map((r) => (
        <g key={r} className="stroke-base-content/38">
          <path d={`M20 ${y(r)}H28`} strokeWidth="1.4" />
          <path d={`M36 ${y(r)}H${r % 2 ? 84 : 106}`} strokeWidth="2.6" />
          <path d={`M36 ${y(r) + 11}H${r % 2 ? 104 : 78}`} strokeWidth="1.6" />
        </g>
      ))}
      <rect x="10" y={tab - 17} width="152" height="40" rx="8" className="fill-accent" />
      <text x="27" y={tab + 8} className="fill-accent-content" fontSize="15" fontWeight="600">
        {drawing.word}
      </text>
      <text x="32" y="304" className="fill-base-content" fontSize="13" fontWeight="600">
        {drawing.title}
      </text>
      <g className="stroke-base-content" strokeWidth="1.5">
        <circle cx="152" cy={tab + 3} r="10" />
        <circle cx="152" cy={tab + 3} r="20" opacity=".55" />
      </g>
      <path
        transform={`translate(140 ${tab - 4})`}
        d="M9 9c0-4 6-4 6 0v20l2 1v-6c0-3 6-3 6 1v6c0-3 6-3 6 1v5c0-3 6-2 6 1v14c0 12-6 18-14 18h-3c-6 0-9-3-12-8L-3 41c-2-4 4-7 7-3l5 5z"
        className="fill-base-100 stroke-base-content"
        strokeWidth="1.6"
        strokeLinejoin="round"
      />
    </svg>
  );
}
