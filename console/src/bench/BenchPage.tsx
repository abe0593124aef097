import { useJobs } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";
import { PeerList } from "../peers/PeerList";
import { AccessList } from "./AccessList";
import { AuditList } from "./AuditList";
import { JobList } from "./JobList";
import { KeptList } from "./KeptList";
import { ProjectList } from "./ProjectList";
import { SessionList } from "./SessionList";
import { Settings } from "./Settings";
import { SheetList } from "./SheetList";

/** The bench itself: what it does and did, who did it, who is signed in, what it goes by. */
export function BenchPage() {
  const jobs = useJobs();
  const running = jobs.data?.items.filter((j) => j.state === "running" || j.state === "waiting");
  return (
    <main className="grid min-h-[calc(100dvh-53px)] grid-cols-[minmax(0,1fr)] md:grid-cols-[minmax(0,1fr)_372px]">
      <div className="px-5 pt-3 pb-10 md:px-8">
        <h1 className="text-lead">
          {running?.length === 0 && "Nothing is running."}
          {running?.length === 1 && (
            <>
              <b className="font-semibold">{running[0]!.title}</b> is running.
            </>
          )}
          {running && running.length > 1 && (
            <>
              <b className="font-semibold">{running.length} jobs</b> are running.
            </>
          )}
        </h1>
        <ProblemText error={jobs.error} />
        {jobs.data && <JobList jobs={jobs.data.items} />}
        <AuditList />
      </div>
      <aside aria-label="This bench" className="bg-base-200 px-5 pt-3 pb-10 md:px-7">
        <Settings />
        <SessionList />
        <PeerList />
        <ProjectList />
        <SheetList />
        <KeptList />
        <AccessList />
      </aside>
    </main>
  );
}
