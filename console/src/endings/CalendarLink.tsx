import { useCalendarAddress } from "../api/endings";
import { ProblemText } from "../parts/ProblemText";

/** The address at which a calendar program reads all endings. */
export function CalendarLink() {
  const address = useCalendarAddress();
  return (
    <div className="mt-6">
      {address.data ? (
        <p className="text-caption">
          Give this address to your calendar program. Whoever has it can read the endings.
          <a className="mono mt-1 block break-all" href={address.data.url}>
            {address.data.url}
          </a>
        </p>
      ) : (
        <button
          type="button"
          className="press press-small"
          disabled={address.isPending}
          onClick={() => address.mutate()}
        >
          All endings as a calendar
        </button>
      )}
      <ProblemText error={address.error} />
    </div>
  );
}
