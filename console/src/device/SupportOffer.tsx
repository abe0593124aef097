import { useJobs } from "../api/queries";
import { useFetchNeeds } from "../api/supply";
import type { SupportPack } from "../api/types";
import { LicenceText } from "../parts/LicenceText";
import { ProblemText } from "../parts/ProblemText";
import { bytesText } from "../parts/time";
import { OneJob } from "./JobProgress";

/** The support pack that a device lacks, and the button by which one accepts its licence and fetches it. */
export function SupportOffer({ need, device }: { need: SupportPack; device: string }) {
  const fetch = useFetchNeeds();
  const jobs = useJobs();
  const job = jobs.data?.items.find((j) => j.id === need.job);
  if (need.job !== "")
    return job && job.device !== device ? <OneJob job={job} /> : null; /* the device's own job is shown below */
  return (
    <div className="mt-5">
      <dl className="grid max-w-lg grid-cols-[88px_1fr] gap-y-1 text-row">
        <dt className="text-secondary">Pack</dt>
        <dd>
          {need.name} {need.version}, {bytesText(need.size)}
          {need.have > 0 && `, of which ${bytesText(need.have)} are here`}
        </dd>
        <dt className="text-secondary">Made by</dt>
        <dd>{need.maker}</dd>
        <dt className="text-secondary">From</dt>
        <dd>{need.depot}</dd>
      </dl>
      {need.licence !== "" && <LicenceText name={need.licence} digest={need.licence_digest} />}
      <button
        type="button"
        className="press press-main mt-4"
        disabled={fetch.isPending}
        onClick={() => fetch.mutate(need.accept)}
      >
        {need.licence !== "" ? "Accept the licence and fetch it" : "Fetch it"}
      </button>
      <ProblemText error={fetch.error} />
    </div>
  );
}
