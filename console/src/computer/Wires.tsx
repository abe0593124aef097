const indent = 26;
const middle = 13; // of a row, and of the sign above which a wire begins

/** The wires at the left of a row: those that pass it, and the one that leads to it. */
export function Wires({ depth, goes }: { depth: number; goes: boolean[] }) {
  const lines = [];
  for (let d = 1; d < depth; d++) if (goes[d]) lines.push(`M${x(d)} 0V26`);
  if (depth > 0) {
    lines.push(`M${x(depth)} 0V${middle - 6}a6 6 0 0 0 6 6H${x(depth) + indent - middle + 4}`);
    if (goes[depth]) lines.push(`M${x(depth)} 0V26`);
  }
  return (
    <svg
      width={depth * indent}
      height="26"
      aria-hidden="true"
      className="shrink-0 self-start stroke-(--road)"
      fill="none"
      strokeWidth="1.5"
    >
      {lines.map((d) => (
        <path key={d} d={d} />
      ))}
    </svg>
  );
}

const x = (depth: number) => (depth - 1) * indent + 9;
