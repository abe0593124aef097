import { useSafeUses } from "../api/safe";
import { ProblemText } from "../parts/ProblemText";
import { headerText } from "../parts/time";

/** Who used what of the safe of late. */
export function UseList() {
  const uses = useSafeUses();
  return (
    <section aria-label="Recently used" className="mt-8">
      <h2 className="text-section font-semibold">Recently used</h2>
      <ProblemText error={uses.error} />
      {uses.data?.items.length === 0 && (
        <p className="text-row text-secondary">Nothing yet. Every use of a key is listed here.</p>
      )}
      <ul className="mt-1">
        {uses.data?.items.map((u) => (
          <li key={u.id} className="border-b border-base-300 py-1.5 text-row">
            {u.actor} used <b className="font-semibold">{u.name || "what is gone now"}</b> to {u.purpose}: {u.document}
            <span className="block text-caption text-secondary">
              {headerText(u.at)}; consent: {u.consent}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
