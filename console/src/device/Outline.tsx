import type { Step } from "../api/types";

type Form = NonNullable<Step["draw"]>["form"];

/** Where rows, and the page's title, stand on each form. */
export const places: Record<
  Form,
  {
    left: number;
    width: number;
    top: number;
    pitch: number;
    title: { x: number; y: number; anchor: "start" | "middle" };
  }
> = {
  phone: { left: 10, width: 152, top: 44, pitch: 40, title: { x: 32, y: 304, anchor: "start" } },
  tablet: { left: 64, width: 132, top: 74, pitch: 40, title: { x: 66, y: 40, anchor: "start" } },
  keys: { left: 24, width: 134, top: 62, pitch: 28, title: { x: 26, y: 36, anchor: "start" } },
  round: { left: 34, width: 132, top: 150, pitch: 40, title: { x: 100, y: 104, anchor: "middle" } },
};

/** The body of a device, in a line. */
export function Outline({ form }: { form: Form }) {
  const line = "stroke-base-content";
  switch (form) {
    case "tablet":
      return (
        <g strokeWidth="1.6">
          <rect x="4" y="4" width="200" height="270" rx="18" className={line} />
          <rect x="14" y="16" width="42" height="246" rx="4" className="fill-base-content/12" />
          {[0, 1, 2, 3].map((i) => (
            <path key={i} d={`M22 ${48 + i * 32}h26`} className="stroke-base-content/40" />
          ))}
        </g>
      );
    case "keys":
      return (
        <g strokeWidth="1.6">
          <rect x="6" y="6" width="170" height="312" rx="16" className={line} />
          <rect x="16" y="16" width="150" height="150" rx="5" className="fill-base-content/8 stroke-base-content/40" />
          {Array.from({ length: 12 }, (_, i) => (
            <rect
              key={i}
              x={18 + (i % 3) * 51}
              y={184 + Math.floor(i / 3) * 32}
              width="44"
              height="24"
              rx="5"
              className="stroke-base-content/40"
            />
          ))}
        </g>
      );
    case "round":
      return (
        <g strokeWidth="1.6">
          <path
            d="M66 66V14a8 8 0 0 1 8-8h52a8 8 0 0 1 8 8v52M66 254v52a8 8 0 0 0 8 8h52a8 8 0 0 0 8-8v-52"
            className="stroke-base-content/40"
          />
          <circle cx="100" cy="160" r="97" className={line} />
          <circle cx="100" cy="160" r="86" className="stroke-base-content/25" strokeDasharray="1 8" strokeWidth="5" />
        </g>
      );
    default:
      return (
        <g>
          <path
            d="M20 1.5H150A18 18 0 0 1 168 19V310A18 18 0 0 1 150 328H46A44 44 0 0 1 2 284V19A18 18 0 0 1 20 1.5Z"
            className={line}
            strokeWidth="1.6"
          />
          <path
            d="M2 268Q60 254 110 262T168 258V310A18 18 0 0 1 150 328H46A44 44 0 0 1 2 284Z"
            className="fill-base-content/12"
          />
          <path d="M20 12H56" className="stroke-base-content/60" strokeWidth="1.6" />
        </g>
      );
  }
}
