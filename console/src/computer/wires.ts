import type { TreeRow } from "../api/types";

/** For each row, at which depths a wire goes on below it. */
export function wiresOf(rows: TreeRow[]): boolean[][] {
  const out: boolean[][] = [];
  let goes: boolean[] = [];
  for (const row of [...rows].reverse()) {
    goes = goes.slice(0, row.depth + 1);
    const at = Array.from({ length: row.depth + 1 }, (_, d) => goes[d] ?? false);
    out.unshift(at);
    goes = [...at];
    goes[row.depth] = true;
  }
  return out;
}
