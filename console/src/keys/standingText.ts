import type { Standing } from "../api/types";

/** What a standing gives and costs, in words. */
export function standingText(s: Standing): string {
  const features = s.lacks.length === 0 ? "All features." : `Not available: ${s.lacks.join(", ")}.`;
  return `${s.costs}. Grants last ${s.grant_days} days, certificates ${s.certificate_days} days, ${s.places} devices. ${features} ${s.alone}`;
}
