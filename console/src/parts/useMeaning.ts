import { useBench } from "../api/queries";

/** useMeaning tells what it means that a gate is open. */
export function useMeaning(): (gate: string) => string {
  const all = useBench().data?.gates;
  return (gate) => all?.find((g) => g.gate === gate)?.text ?? "";
}
