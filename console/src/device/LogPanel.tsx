import { useEffect, useRef } from "react";
import { useLog } from "../api/events";
import { clockText } from "../parts/time";

interface LogPanelProps {
  handle: string;
  linked: boolean;
  /** It sleeps, and would be woken for what needs it. */
  asleep: boolean;
  lacks?: string;
}

/** What the device and its apps say, as it comes. */
export function LogPanel({ handle, linked, asleep, lacks }: LogPanelProps) {
  const lines = useLog(handle, linked && !asleep && !lacks);
  const end = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (end.current) end.current.scrollTop = end.current.scrollHeight;
  }, [lines]);
  return (
    <section aria-label="Log" className="mt-8">
      <h2 className="text-section font-semibold">Log</h2>
      {!linked && lines.length === 0 && (
        <p className="mt-2 text-secondary">The log comes over the link, once that is up.</p>
      )}
      {linked && lacks && <p className="mt-2 text-secondary">{lacks}</p>}
      {linked && asleep && (
        <p className="mt-2 text-secondary">{handle} is asleep. Its log continues once it is awake.</p>
      )}
      {linked && !asleep && !lacks && lines.length === 0 && (
        <p className="mt-2 text-secondary">Nothing was logged yet. Run an app, and its output is shown here.</p>
      )}
      {lines.length > 0 && (
        <div
          ref={end}
          role="log"
          aria-label={`Log of ${handle}`}
          tabIndex={0}
          className="mono mt-2 max-h-56 overflow-auto rounded-lg bg-base-200 px-4 py-3"
        >
          {lines.map((l) => (
            <p key={l.seq} className={l.level === "error" ? "font-medium text-error" : ""}>
              <span className="text-secondary">
                {clockText(l.at)} {l.app || "device"}
              </span>{" "}
              {l.text}
            </p>
          ))}
        </div>
      )}
    </section>
  );
}
