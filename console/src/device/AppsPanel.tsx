import { useOnApp, useTryouts } from "../api/queries";
import type { Device, Prep, Tryout } from "../api/types";
import { ProblemText } from "../parts/ProblemText";
import { clockText, tookText } from "../parts/time";

/** The apps on the device, and the last tryout with its picture. */
export function AppsPanel({ device, apps }: { device: Device; apps: Prep["apps"] }) {
  const tryouts = useTryouts(device.handle);
  const onApp = useOnApp(device.handle);
  const last = tryouts.data?.items[0];
  return (
    <section aria-label="Apps and tryouts">
      <h2 className="text-section font-semibold">Apps and tryouts</h2>
      {apps.length === 0 && tryouts.data && !last && (
        <p className="mt-2 max-w-prose text-secondary">
          No app has been tried on it yet. A tryout builds, copies and starts one, and keeps the evidence.
        </p>
      )}
      <ul className="mt-2 text-row">
        {apps.map((a) => (
          <li key={a.id} className="flex flex-wrap items-baseline gap-x-3 py-1">
            <span>
              <b className="font-semibold">{a.name}</b> {a.version}, {a.running ? "running" : "installed"}
            </span>
            {(a.running ? ["Stop", "Remove"] : ["Remove"]).map((what) => (
              <button
                key={what}
                type="button"
                className="press-link"
                disabled={onApp.isPending}
                onClick={() => onApp.mutate({ app: a.id, remove: what === "Remove" })}
              >
                {what}
                <span className="sr-only"> {a.name}</span>
              </button>
            ))}
          </li>
        ))}
      </ul>
      <ProblemText error={onApp.error} />
      {last && <LastTryout tryout={last} />}
    </section>
  );
}

function LastTryout({ tryout: t }: { tryout: Tryout }) {
  return (
    <div className="mt-3 flex gap-5">
      {t.picture && (
        <img
          src={`/api/v1/tryouts/${t.id}/picture.png`}
          alt={`The screen of ${t.device} during the tryout`}
          className="h-[180px] rounded-lg"
        />
      )}
      <div className="min-w-0 text-row">
        <p>
          <b className="font-semibold">{t.outcome.replace(/^./, (c) => c.toUpperCase())}</b>: {t.app} {t.version},{" "}
          <span className="mono">{clockText(t.created)}</span>
        </p>
        {t.failed && <p className="mt-1">{t.failed}</p>}
        <ul className="mt-2">
          {t.points.map((p) => (
            <li key={p.name} className="grid grid-cols-[16px_56px_64px_minmax(0,1fr)] gap-x-1 py-[1px]">
              <span>{p.ok ? "✓" : "✗"}</span>
              <span>{p.name}</span>
              <span className="mono text-right text-secondary">{tookText(p.took_ms)}</span>
              <span className="truncate pl-2 text-secondary" title={p.text}>
                {p.text}
              </span>
            </li>
          ))}
        </ul>
      </div>
    </div>
  );
}
