import type { DriverCandidate } from "../api/types";
import { bytesText } from "../parts/time";
import { RulesDifference } from "./RulesDifference";

const sourceOf = (s: DriverCandidate) => {
  if (s.here) return "fetched";
  if (s.service) return "in the update service of its computer";
  return s.depot === "" ? "not on the bench" : `in depot ${s.depot}`;
};

/** What one should know of a driver set before one consents to it. */
export function DriverFacts({ set }: { set: DriverCandidate }) {
  const steps = [sourceOf(set), set.installed ? "installed" : "not installed", set.bound ? "bound" : "not bound"];
  return (
    <dl className="grid max-w-lg grid-cols-[88px_1fr] gap-y-1 text-row">
      <dt className="text-secondary">Made by</dt>
      <dd>
        {set.maker}, {bytesText(set.size)}
      </dd>
      <dt className="text-secondary">Why</dt>
      <dd>{set.why.charAt(0).toUpperCase() + set.why.slice(1)}.</dd>
      <dt className="text-secondary">Signed by</dt>
      <dd>{set.signer || (set.verified ? "a publisher whom its computer trusts" : "nobody")}</dd>
      <dt className="text-secondary">It is</dt>
      <dd>{steps.join(", ")}</dd>
      <dt className="text-secondary">SHA-256</dt>
      <dd className="mono break-all">{set.digest}</dd>
      {set.difference !== "" && (
        <>
          <dt className="text-secondary">It changes</dt>
          <dd className="min-w-0">
            <RulesDifference text={set.difference} />
          </dd>
        </>
      )}
    </dl>
  );
}
