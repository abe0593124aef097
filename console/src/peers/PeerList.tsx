import { usePeering, usePeers } from "../api/peers";
import { OwnerOnly } from "../parts/OwnerOnly";
import { ProblemText } from "../parts/ProblemText";
import { AddPeer } from "./AddPeer";
import { Asking } from "./Asking";
import { InvitePeer } from "./InvitePeer";
import { PeerItem } from "./PeerItem";

/** The other benches that this one knows, and how they become known. */
export function PeerList() {
  const peers = usePeers();
  const peering = usePeering();
  const asking = peering.data?.asking;
  return (
    <section aria-label="Other benches" className="mt-8">
      <h2 className="text-section font-semibold">Other benches</h2>
      <ProblemText error={peers.error ?? peering.error} />
      {asking && <Asking bench={asking} />}
      {peers.data?.items.length === 0 && (
        <p className="mt-1 text-secondary">None yet. Benches that know each other can lend each other devices.</p>
      )}
      <ul className="mt-1">
        {peers.data?.items.map((p) => (
          <PeerItem key={p.name} peer={p} />
        ))}
      </ul>
      <OwnerOnly what="Add another bench" command="earlybench peer add FILE">
        <AddPeer meeting={peering.data?.meeting} />
        {peering.data && peering.data.listens !== "" && <InvitePeer />}
      </OwnerOnly>
    </section>
  );
}
