import { useRestartLink } from "../api/queries";
import { ProblemText } from "./ProblemText";

/** The button by which the bench starts over with a device that is connected. */
export function RestartLink({ handle, main }: { handle: string; main?: boolean }) {
  const restart = useRestartLink(handle);
  return (
    <>
      <button
        type="button"
        className={main ? "press press-main" : "press press-small h-7"}
        disabled={restart.isPending}
        onClick={() => restart.mutate()}
      >
        Restart the link
      </button>
      <ProblemText error={restart.error} />
    </>
  );
}
