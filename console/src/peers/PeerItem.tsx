import { useCheckPeer, useDropPeer, useSetPeer } from "../api/peers";
import { useOwner } from "../api/owner";
import type { Peer } from "../api/types";
import { ProblemText } from "../parts/ProblemText";

const rights = [
  { right: "nothing", means: "see nothing here" },
  { right: "look", means: "look at the devices" },
  { right: "use", means: "use the devices" },
  { right: "hands", means: "use them, and ask for your hands" },
] as const;

/** A peer: whether it is connected, what it may do here, and what is wrong between. */
export function PeerItem({ peer }: { peer: Peer }) {
  const set = useSetPeer(peer.name);
  const drop = useDropPeer(peer.name);
  const check = useCheckPeer(peer.name);
  const single = Object.entries(peer.devices);
  const owner = useOwner() !== undefined;
  return (
    <li className="py-1.5 text-row">
      <p>
        <b className="font-semibold">{peer.name}</b> {peer.connected ? "is connected" : "is not connected"}
        {!peer.connected && peer.trouble && <span className="block text-caption">{peer.trouble}</span>}
      </p>
      {!owner && <p>It may {rights.find((r) => r.right === (peer.may || "nothing"))?.means}.</p>}
      {owner && (
        <label className="mt-1 flex items-center gap-2">
          It may
          <select
            aria-label={`What ${peer.name} may`}
            className="select select-sm w-auto"
            value={peer.may || "nothing"}
            onChange={(e) => set.mutate({ may: e.target.value as "nothing" | "look" | "use" | "hands" })}
          >
            {rights.map((r) => (
              <option key={r.right} value={r.right}>
                {r.means}
              </option>
            ))}
          </select>
        </label>
      )}
      {owner ? (
        <label className="mt-1 flex min-h-6 items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={peer.signs}
            disabled={set.isPending}
            onChange={(e) => set.mutate({ signs: e.target.checked })}
          />
          Sign its apps here, each after consent
        </label>
      ) : (
        peer.signs && <p>Its apps are signed here, each after consent.</p>
      )}
      {peer.kits.length > 0 && (
        <p>
          It may have the {peer.kits.length > 1 ? "kits" : "kit"} {peer.kits.join(" and ")}.
        </p>
      )}
      {single.length > 0 && (
        <p className="text-caption text-secondary">
          {single.map(([handle, right]) => `${handle}: ${right}`).join(", ")}
        </p>
      )}
      <p className="mt-1 flex gap-3">
        <button type="button" className="press press-small" disabled={check.isPending} onClick={() => check.mutate()}>
          Check<span className="sr-only"> {peer.name}</span>
        </button>
        {owner && (
          <button type="button" className="press press-small" disabled={drop.isPending} onClick={() => drop.mutate()}>
            Forget {peer.name}
          </button>
        )}
      </p>
      {check.data && (
        <ul role="status" className="mt-1 text-caption">
          {check.data.points.map((p) => (
            <li key={p.name + p.note + p.wrong}>
              <b className="font-semibold">{p.name}</b> {p.wrong ? `fails: ${p.wrong}. ${p.remedy}` : p.note}
            </li>
          ))}
        </ul>
      )}
      <ProblemText error={set.error ?? drop.error ?? check.error} />
    </li>
  );
}
