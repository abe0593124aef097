import type { Ending } from "../api/types";

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });

const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long", year: "numeric" });
/** The day of a date, such as 26 January 2027. */
export const dayText = (at: string) => day.format(new Date(at));
export const clockText = (at: string) => clock.format(new Date(at));

const hour = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const dayAndHour = new Intl.DateTimeFormat("en-GB", {
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
});
/** A time of today without its seconds, or with its day. */
export const hourText = (at: string) => {
  const t = new Date(at);
  return t.toDateString() === new Date().toDateString() ? hour.format(t) : dayAndHour.format(t);
};

const header = new Intl.DateTimeFormat("en-GB", {
  weekday: "short",
  day: "numeric",
  month: "long",
  hour: "2-digit",
  minute: "2-digit",
});

export const headerText = (at: string) => header.format(new Date(at)).replace(" at ", ", ");

export const bytesText = (n: number) => {
  if (n < 1e6) return `${(n / 1e3).toFixed(1)} kB`;
  return n < 1e9 ? `${(n / 1e6).toFixed(1)} MB` : `${(n / 1e9).toFixed(1)} GB`;
};

export const tookText = (ms: number) => (ms < 1000 ? `${ms} ms` : `${(ms / 1000).toFixed(1)} s`);

/** How long something takes, about. */
export const secondsText = (s: number) =>
  s < 90 ? `about ${Math.round(s)} seconds` : `about ${Math.round(s / 60)} minutes`;

/** When a gate that is open will shut. */
export const leftText = (e: Ending) => {
  const minutes = e.left_seconds / 60;
  if (minutes >= 48 * 60) return `ends in ${Math.round(minutes / 60 / 24)} days`;
  if (minutes >= 120) return `ends in ${Math.round(minutes / 60)} hours`;
  return Math.ceil(minutes) === 1 ? "ends in a minute" : `ends in ${Math.ceil(minutes)} minutes`;
};
