import RFB from "@novnc/novnc";
import { useEffect, useRef, useState } from "react";

/** The device's screen over the link, seen and touched; it opens when one asks for it. */
export function ScreenPanel({ handle, linked }: { handle: string; linked: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <section aria-label="Screen" className="mt-6">
      <h2 className="flex items-baseline gap-4 text-section font-semibold">
        Screen
        {linked && (
          <button
            type="button"
            className="text-row font-medium text-primary hover:underline"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            {open ? "Close it" : "Show it here"}
          </button>
        )}
      </h2>
      {!linked && <p className="mt-2 text-row text-secondary">It comes over the link, once that is up.</p>}
      {linked && open && <Viewer key={handle} handle={handle} />}
    </section>
  );
}

function Viewer({ handle }: { handle: string }) {
  const place = useRef<HTMLDivElement>(null);
  const [state, setState] = useState("It is being fetched…");
  useEffect(() => {
    if (!place.current) return;
    const url = new URL(`/api/v1/devices/${encodeURIComponent(handle)}/screen`, window.location.href);
    url.protocol = url.protocol === "https:" ? "wss:" : "ws:";
    const rfb = new RFB(place.current, url.href, { wsProtocols: ["binary"] });
    rfb.scaleViewport = true;
    rfb.background = "transparent";
    rfb.addEventListener("connect", () => setState(""));
    rfb.addEventListener("disconnect", () =>
      setState("The screen has gone: the link has ended. Close it and show it again."),
    );
    return () => rfb.disconnect();
  }, [handle]);
  return (
    <div className="mt-3">
      {state && <p role="status">{state}</p>}
      <div
        ref={place}
        role="application"
        aria-label={`The screen of ${handle}; keys and touches go to it`}
        className="h-[560px] max-w-[420px]"
      />
    </div>
  );
}
