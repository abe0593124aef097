import { useHosts, useTrees } from "../api/queries";
import { ProblemText } from "../parts/ProblemText";
import { CheckList } from "./CheckList";
import { DepotList } from "./DepotList";
import { DriverList } from "./DriverList";
import { HeardList } from "./HeardList";
import { HostList } from "./HostList";
import { HostTree } from "./HostTree";
import { KitList } from "./KitList";
import { NeedList } from "./NeedList";
import { SupportList } from "./SupportList";
import { faultOf } from "./faults";

/** A sentence that goes on behind a name. */
const lowered = (text: string) => text.charAt(0).toLowerCase() + text.slice(1);

/** The computer's side: what is connected to each host's USB, and what is wrong there. */
export function ComputerPage() {
  const hosts = useHosts();
  const trees = useTrees(hosts.data?.items.map((h) => h.name) ?? []);
  const shown = trees.flatMap((t) => (t.data ? [t.data] : []));
  const rows = shown.flatMap((t) => t.rows);
  const worst = rows.find((r) => r.worst);
  const faults = rows.filter((r) => r.trouble !== "").length;
  const devices = rows.filter((r) => r.kind === "device").length;
  const asked = hosts.data !== undefined && trees.every((t) => !t.isPending);
  return (
    <main className="grid min-h-[calc(100dvh-53px)] grid-cols-[minmax(0,1fr)] md:grid-cols-[minmax(0,1fr)_372px]">
      <div className="px-5 pt-3 pb-10 md:px-8">
        <h1 className="text-lead">
          {worst ? (
            <>
              <b className="font-semibold">{worst.device || worst.name}</b>: {lowered(faultOf(worst))}
            </>
          ) : !asked ? (
            !hosts.error && "Asking the hosts…"
          ) : devices > 0 ? (
            "Nothing is wrong here."
          ) : (
            "Nothing is connected."
          )}
        </h1>
        {asked && (
          <p className="text-row text-secondary">
            {devices} {devices === 1 ? "device is" : "devices are"} connected
            {faults === 1 && ", 1 fault is marked where it is"}
            {faults > 1 && `, ${faults} faults are marked where they are`}.
          </p>
        )}
        <ProblemText error={hosts.error} />
        {hosts.data?.items.length === 0 && (
          <p className="mt-6 max-w-prose">
            The bench does not watch a computer yet. Add one on the right, and its devices are shown here.
          </p>
        )}
        <NeedList />
        {shown.map((t) => (
          <HostTree key={t.host} tree={t} />
        ))}
        <HeardList />
        <CheckList />
      </div>
      <aside aria-label="Hosts, driver sets, support packs and kits" className="bg-base-200 px-5 pt-3 pb-10 md:px-7">
        <HostList />
        <DriverList />
        <SupportList />
        <KitList />
        <DepotList />
      </aside>
    </main>
  );
}
