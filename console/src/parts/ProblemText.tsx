import { Problem } from "../api/queries";

/** What did not work, and what to do now. */
export function ProblemText({ error }: { error: unknown }) {
  if (!error) return null;
  const remedy = error instanceof Problem ? error.remedy : "";
  return (
    <p role="alert" className="mt-3 max-w-prose text-row">
      <b className="font-semibold">{error instanceof Error ? error.message : String(error)}</b> {remedy}
    </p>
  );
}
