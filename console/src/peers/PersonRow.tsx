import { Smartphone, SquareDashed } from "lucide-react";
import type { Device } from "../api/types";

interface PersonRowProps {
  device: Device;
  current: boolean;
  choose: () => void;
}

/** One device on the page of somebody without a bench. */
export function PersonRow({ device: d, current, choose }: PersonRowProps) {
  const linked = d.gates["linked"] === "open";
  const Body = linked ? Smartphone : SquareDashed;
  return (
    <li>
      <button
        type="button"
        aria-pressed={current}
        onClick={choose}
        className={`flex w-full items-center gap-3 rounded-lg px-3 py-2 text-left hover:bg-base-200 ${current ? "bg-base-200" : ""}`}
      >
        <Body size={18} strokeWidth={1.5} aria-hidden="true" className="shrink-0 text-secondary" />
        <span className="min-w-0">
          <span className="block font-semibold">{d.handle}</span>
          <span className="block truncate text-caption text-secondary">
            {d.maker} {d.model} {d.release}
            {linked ? "" : " · not linked just now"}
          </span>
        </span>
      </button>
    </li>
  );
}
