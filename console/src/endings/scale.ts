const day = 86_400_000;

/** Days that the picture shows before and after now. */
const before = 10;
const after = 110;

/** A scale from times to per cents of the picture's width. */
export type Scale = { from: number; to: number; at: (time: number) => number };

export function scaleAround(now: number): Scale {
  const from = now - before * day;
  const to = now + after * day;
  return { from, to, at: (time) => Math.min(100, Math.max(0, ((time - from) / (to - from)) * 100)) };
}

const month = new Intl.DateTimeFormat("en-GB", { month: "long" });
const short = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long" });

const long = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long", year: "numeric" });

/** A day, with its year if that is not the present one. */
export const shortDay = (time: number) =>
  (new Date(time).getFullYear() === new Date().getFullYear() ? short : long).format(new Date(time));

/** The first days of the months that a scale shows, with their names. */
export function monthsOf({ from, to }: Scale) {
  const out: { time: number; name: string }[] = [];
  const first = new Date(from);
  for (let d = new Date(first.getFullYear(), first.getMonth() + 1, 1); d.getTime() < to;) {
    out.push({ time: d.getTime(), name: month.format(d) });
    d = new Date(d.getFullYear(), d.getMonth() + 1, 1);
  }
  return out;
}

/** The end of the day that is so many days from now, as the service takes it. */
export function dayFrom(now: number, days: number) {
  const d = new Date(now);
  return new Date(d.getFullYear(), d.getMonth(), d.getDate() + days, 23, 59, 59);
}

export const mostDays = after - 5;
