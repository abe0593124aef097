import { useAddKit } from "../api/supply";
import { OwnerOnly } from "./OwnerOnly";
import { ProblemText } from "./ProblemText";

/** Has builds use another copy of a kit that is on the computer. */
export function UseCopy({ kit, path }: { kit: string; path: string }) {
  const add = useAddKit();
  return (
    <OwnerOnly what={`Use the other copy of ${kit}`} command={`earlybench kit add ${kit} '${path}'`}>
      <button
        type="button"
        className="press press-small"
        disabled={add.isPending}
        onClick={() => add.mutate({ name: kit, path })}
      >
        Build with the one in {path}
      </button>
      <ProblemText error={add.error} />
    </OwnerOnly>
  );
}
