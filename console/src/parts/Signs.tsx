import { Hand, Monitor, RotateCw, Sunrise } from "lucide-react";

/** The sign of who does a step. */
export function WhoSign({ who }: { who: string }) {
  const props = { size: 16, strokeWidth: 1.5, "aria-hidden": true, className: "shrink-0" } as const;
  switch (who) {
    case "hands":
      return <Hand {...props} />;
    case "computer":
      return <Monitor {...props} />;
    case "ready":
      return <Sunrise {...props} className="shrink-0 text-success" />;
  }
  return <RotateCw {...props} />;
}

export const whoWords: Record<string, string> = {
  hands: "With your hands",
  computer: "At the computer",
  automatic: "By itself",
};
