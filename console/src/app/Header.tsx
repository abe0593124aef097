import { useEffect, useState } from "react";
import { NavLink, useMatch } from "react-router";
import { useBench } from "../api/queries";
import { useSafe } from "../api/safe";
import { headerText } from "../parts/time";
import { Mark } from "./Mark";

/** The horizon: where one is, whose bench this is, what time it has. */
export function Header({ live }: { live: boolean }) {
  const bench = useBench();
  const device = useMatch("/devices/:handle");
  const round = useMatch("/round");
  const endings = useMatch("/endings");
  const now = useNow(bench.data?.now, bench.dataUpdatedAt);
  return (
    <header className="flex h-[52px] items-center overflow-x-clip border-b border-base-300 px-5 md:px-8">
      <NavLink to="/" className="flex items-center gap-3 text-section font-semibold md:w-[198px]">
        <Mark /> <span className="max-md:sr-only">Early Bench</span>
      </NavLink>
      <nav aria-label="Pages" className="ml-5 flex h-full items-center gap-4 md:ml-0 md:gap-7">
        <Place to={round ? "/round" : "/"}>Rack</Place>
        {device && <Place to={`/devices/${device.params.handle}`}>Device</Place>}
        <Place to="/computer">Computer</Place>
        <Place to={endings ? "/endings" : "/keys"}>Keys</Place>
        <Place to="/bench">Bench</Place>
      </nav>
      <p className="ml-auto hidden items-baseline gap-3 text-row text-secondary md:flex">
        {!live && <span role="status">The bench does not answer; trying again.</span>}
        <Waiting />
        <b className="font-semibold text-base-content">{bench.data?.name}</b>
        <time>{now && headerText(now)}</time>
      </p>
    </header>
  );
}

/** What waits for the person's consent, on every page. */
function Waiting() {
  const n = useSafe().data?.requests.length ?? 0;
  return (
    <span role="status">
      {n > 0 && (
        <NavLink to="/keys" className="press-link font-semibold">
          {n === 1 ? "1 request waits for you" : `${n} requests wait for you`}
        </NavLink>
      )}
    </span>
  );
}

/** useNow goes on from the time that the bench told. */
function useNow(told: string | undefined, at: number): string | undefined {
  const [, tick] = useState(0);
  useEffect(() => {
    const t = window.setInterval(() => tick((n) => n + 1), 10_000);
    return () => window.clearInterval(t);
  }, []);
  return told && new Date(Date.parse(told) + Date.now() - at).toISOString();
}

function Place({ to, children }: { to: string; children: string }) {
  return (
    <NavLink
      to={to}
      end
      className={({ isActive }) =>
        `relative flex h-full items-center ${isActive ? "font-semibold" : "text-secondary hover:text-base-content"}`
      }
    >
      {({ isActive }) => (
        <>
          {isActive && (
            <span
              aria-hidden="true"
              className="pointer-events-none absolute -bottom-px left-1/2 h-[44px] w-[200px] -translate-x-1/2 bg-[radial-gradient(ellipse_at_bottom,var(--glow),transparent_70%)]"
            />
          )}
          <span className="relative">{children}</span>
          {isActive && (
            <span
              aria-hidden="true"
              className="absolute bottom-0 left-1/2 h-[9px] w-[18px] -translate-x-1/2 rounded-t-full bg-accent"
            />
          )}
        </>
      )}
    </NavLink>
  );
}
