import RFB from "@novnc/novnc";
import { useEffect, useRef, useState } from "react";

/** A viewer of the device's screen: RFB over a WebSocket. */
export default function ScreenViewer({ handle, looks }: { handle: string; looks: boolean }) {
  const place = useRef<HTMLDivElement>(null);
  const [state, setState] = useState("It is being fetched…");
  useEffect(() => {
    if (!place.current) return;
    const url = new URL(`/api/v1/devices/${encodeURIComponent(handle)}/screen`, window.location.href);
    url.protocol = url.protocol === "https:" ? "wss:" : "ws:";
    const rfb = new RFB(place.current, url.href, { wsProtocols: ["binary"] });
    rfb.scaleViewport = true;
    rfb.viewOnly = looks;
    rfb.background = "transparent";
    rfb.addEventListener("connect", () => setState(""));
    rfb.addEventListener("disconnect", () =>
      setState("The screen is gone because the link ended. Close it and show it again."),
    );
    return () => rfb.disconnect();
  }, [handle, looks]);
  return (
    <div className="mt-3">
      {state && <p role="status">{state}</p>}
      <div
        ref={place}
        role="application"
        aria-label={`The screen of ${handle}${looks ? "" : "; keys and touches go to it"}`}
        className="h-[560px] max-w-[420px]"
      />
    </div>
  );
}
