import type { Safe } from "../api/types";
import { headerText } from "../parts/time";

/** What is in the safe: names and public halves. */
export function SafeItemList({ safe }: { safe: Safe }) {
  if (safe.contents.length === 0) return null;
  return (
    <section aria-label="In the safe" className="mt-6">
      <h2 className="text-section font-semibold">In the safe</h2>
      <ul className="mt-1">
        {safe.contents.map((i) => (
          <li key={i.id} className="border-b border-base-300 py-2 text-row">
            <b className="font-semibold">{i.name}</b>
            <span className="ml-3 text-secondary">since {headerText(i.made)}</span>
            <span className="block text-caption text-secondary">
              {i.for === "development" && "signs the apps that this bench packs; "}
              {i.kind === "key" ? <span className="mono break-all">{i.thumbprint}</span> : "a secret text"}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
