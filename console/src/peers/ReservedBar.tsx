import { useEndReservation, useReservations } from "../api/peers";
import type { Reservation } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { hourText } from "../parts/time";

/** That a device is reserved for a run of a command, by whom and until when, and what takes it back. */
export function ReservedBar({ handle }: { handle: string }) {
  const reservation = useReservations().data?.items.find(
    (r) => r.state !== "ended" && r.devices.some((d) => d.device === handle),
  );
  return reservation ? <Bar reservation={reservation} /> : null;
}

function Bar({ reservation: r }: { reservation: Reservation }) {
  const end = useEndReservation(r.id);
  return (
    <section
      aria-label="Reservation"
      className="mt-4 flex flex-wrap items-center gap-x-4 gap-y-2 rounded-lg bg-base-200 px-4 py-2"
    >
      <p>
        Reserved by <b className="font-semibold">{r.by}</b> for <code>{r.title}</code>
        {r.ends ? `, until ${hourText(r.ends)} at the latest.` : ". It waits for more devices."}
      </p>
      <button type="button" className="press press-small" disabled={end.isPending} onClick={() => end.mutate()}>
        Take it back
      </button>
      <ProblemText error={end.error} />
    </section>
  );
}
