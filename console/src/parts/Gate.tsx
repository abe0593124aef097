type Props = { state: string; first?: boolean; size?: number };

/** A gate, drawn: its shape tells its state, its colour only says it again. */
export function Gate({ state, first = false, size = 23 }: Props) {
  if (first) {
    const waiting = state === "waiting";
    const drawn = (size * 30) / 24;
    return (
      <svg viewBox="-3 -3 30 30" width={drawn} height={drawn} aria-hidden="true" fill="none" strokeLinecap="round">
        <rect
          x="-2"
          y="-2"
          width="28"
          height="28"
          rx="6.5"
          className={waiting ? "fill-(--lamp-tint) stroke-accent" : "fill-accent"}
          strokeWidth={waiting ? 1.8 : 0}
        />
        <g
          className={waiting ? "stroke-base-content fill-base-content" : "stroke-accent-content fill-accent-content"}
          transform={waiting ? "translate(.3 .4) scale(.96)" : "translate(0 -2.2)"}
        >
          <Shape state={state} />
        </g>
      </svg>
    );
  }
  const colour =
    state === "open"
      ? "stroke-(--road)"
      : state === "unknown" || state === "not needed"
        ? "stroke-(--faint)"
        : "stroke-base-content fill-base-content";
  return (
    <svg
      viewBox="0 0 24 24"
      width={size}
      height={size}
      aria-hidden="true"
      fill="none"
      strokeLinecap="round"
      strokeLinejoin="round"
      className={colour}
    >
      <Shape state={state} />
    </svg>
  );
}

function Shape({ state }: { state: string }) {
  switch (state) {
    case "open":
      return (
        <>
          <path d="M5 20V12.5M19 20V12.5" strokeWidth="2" />
          <path className="gate-bar" d="M5 12.8 12.4 1.9" strokeWidth="2.6" />
        </>
      );
    case "waiting":
      return (
        <>
          <path d="M5 20V9.5" strokeWidth="2" />
          <path d="M5 10 18.5 4" strokeWidth="2.6" />
          <path d="M12 15.5v-4M14.5 15v-5.2M17 15v-5M19.4 15.5v-3.8" strokeWidth="1.9" />
          <path d="M12.6 18.6l-3-3.1" strokeWidth="2" />
          <rect x="11.05" y="14" width="9.3" height="7.4" rx="3.1" stroke="none" />
        </>
      );
    case "unknown":
      return <path d="M5 20V9.5H19V20" fill="none" strokeWidth="1.9" strokeDasharray="0.01 3.488" />;
    case "not needed":
      return <path d="M3.5 20v-3.4M20.5 20v-3.4" strokeWidth="1.8" />;
    default:
      return (
        <>
          <path d="M5 20V8.5M19 20V8.5" strokeWidth="2" />
          <path className="gate-bar" d="M2.5 11H21.5" strokeWidth="2.8" />
          <path d="M5 16H19" strokeWidth="1.6" />
        </>
      );
  }
}
