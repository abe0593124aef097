import { useJobs } from "../api/queries";
import { useFetchNeeds, useNeeds } from "../api/supply";
import { OneJob } from "../device/JobProgress";
import { LicenceText } from "../parts/LicenceText";
import { ProblemText } from "../parts/ProblemText";
import { bytesText, secondsText } from "../parts/time";

/** What the devices on the rack lack of this side and a depot has, to be accepted and fetched. */
export function NeedList() {
  const needs = useNeeds();
  const jobs = useJobs();
  const fetch = useFetchNeeds();
  const items = needs.data?.packs ?? [];
  if (!needs.data || items.length === 0) return <ProblemText error={needs.error} />;
  const waiting = items.filter((n) => n.job === "");
  const licences = new Map(waiting.filter((n) => n.licence !== "").map((n) => [n.licence_digest, n.licence]));
  return (
    <section aria-label="Needed" className="mt-4 rounded-box bg-base-200 px-4 py-3">
      <h2 className="text-section font-semibold">Needed</h2>
      <p className="text-row text-secondary">
        {bytesText(needs.data.left)} to fetch
        {needs.data.seconds > 0 && `, ${secondsText(needs.data.seconds)} at the rate measured last`}
        {needs.data.free >= 0 && `; ${bytesText(needs.data.free)} are free on the disk`}.
      </p>
      <ul className="mt-1 divide-y divide-base-300">
        {items.map((n) => {
          const job = jobs.data?.items.find((j) => j.id === n.job);
          return (
            <li key={n.digest} className="py-2 text-row">
              <b className="font-semibold">{n.name}</b> {n.version}{" "}
              <span className="text-secondary">
                for {n.family} {n.release}, {bytesText(n.size)}
                {n.have > 0 && n.job === "" && `, of which ${bytesText(n.have)} are here`}, needed by{" "}
                {n.devices.join(", ")}
              </span>
              {job && <OneJob job={job} />}
            </li>
          );
        })}
      </ul>
      {[...licences].map(([digest, name]) => (
        <LicenceText key={digest} digest={digest} name={name} />
      ))}
      {waiting.length > 0 && (
        <button
          type="button"
          className="press press-main mt-4"
          disabled={fetch.isPending}
          onClick={() => fetch.mutate(needs.data.accept)}
        >
          {licences.size > 0 ? "Accept and fetch" : "Fetch"} {waiting.length === 1 ? "it" : `all ${waiting.length}`}
        </button>
      )}
      <ProblemText error={fetch.error} />
    </section>
  );
}
