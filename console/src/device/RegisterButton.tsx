import { useAccounts, useRegisterDevices } from "../api/belong";
import { ProblemText } from "../parts/ProblemText";

/** Registers the device with the crew of the account that is in use. */
export function RegisterButton({ handle }: { handle: string }) {
  const register = useRegisterDevices();
  const used = useAccounts().data?.items.find((a) => a.used);
  return (
    <div className="mt-5">
      <button
        type="button"
        className="press press-main"
        disabled={register.isPending}
        onClick={() => register.mutate([handle])}
      >
        Register {handle}
      </button>
      {used && (
        <p className="mt-2 text-caption text-secondary">
          With the crew {used.crew} of account {used.id} at {used.authority}.
        </p>
      )}
      <ProblemText error={register.error} />
    </div>
  );
}
