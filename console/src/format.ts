import dayjs from "dayjs";

// Dates and numbers are written as the reader's browser is set.
const moments = new Intl.DateTimeFormat(undefined, { year: "numeric", month: "2-digit", day: "2-digit", hour: "2-digit", minute: "2-digit", second: "2-digit" });
const dates = new Intl.DateTimeFormat(undefined, { year: "numeric", month: "2-digit", day: "2-digit" });
const times = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", second: "2-digit" });
const wholes = new Intl.NumberFormat(undefined, { maximumFractionDigits: 0 });
const tenths = new Intl.NumberFormat(undefined, { minimumFractionDigits: 1, maximumFractionDigits: 1 });

/** A number with a digit behind the point. */
export const tenth = (n: number) => tenths.format(n);

/** A whole number, in groups of digits. */
export const whole = (n: number) => wholes.format(n);

const units = ["B", "KiB", "MiB", "GiB", "TiB"];

/** Bytes in the largest unit that leaves a digit before the point. */
export function size(bytes: number): string {
  let n = bytes;
  let unit = 0;
  while (n >= 1024 && unit < units.length - 1) {
    n /= 1024;
    unit++;
  }
  return `${n >= 100 || unit === 0 ? whole(n) : tenth(n)} ${units[unit]}`;
}

export function rate(bitsPerSecond: number): string {
  return bitsPerSecond >= 1e9 ? `${bitsPerSecond / 1e9} Gbit/s` : `${bitsPerSecond / 1e6} Mbit/s`;
}

export function when(time?: string): string {
  return time ? moments.format(new Date(time)) : "";
}

/** The day of a time. */
export const day = (time: Date | string) => dates.format(new Date(time));

const days = new Intl.RelativeTimeFormat(undefined, { numeric: "auto" });

/** How long ago something was, by days: "today", "3 days ago", "2 months ago". */
export function ago(time: string): string {
  const n = dayjs().startOf("day").diff(dayjs(time).startOf("day"), "day");
  if (n < 60) return days.format(-n, "day");
  return n < 700 ? days.format(-Math.round(n / 30.4), "month") : days.format(-Math.round(n / 365.25), "year");
}

/** The time of day. */
export const clock = (time: string) => times.format(new Date(time));

export function seconds(s: number): string {
  return s < 60 ? `${tenth(s)} s` : `${Math.floor(s / 60)} min ${Math.round(s % 60)} s`;
}

export const percent = (done: number, total: number) => (total > 0 ? Math.floor((100 * done) / total) : 0);

const speeds = ["B/s", "kB/s", "MB/s", "GB/s"];

/** Bytes a second; nothing for none. */
export function perSecond(bytes: number): string {
  let n = bytes;
  let unit = 0;
  while (n >= 1000 && unit < speeds.length - 1) {
    n /= 1000;
    unit++;
  }
  return bytes < 1 ? "" : `${n >= 10 ? Math.round(n) : tenth(n)} ${speeds[unit]}`;
}

/** A share of packets or bytes; nothing for none. */
export const share = (of: number) => (of < 0.0005 ? "" : `${tenth(100 * of)} %`);

/** A number of the smaller unit in both: 61, "min", "s" is "1 min 1 s"; a rest of none is left out. */
const sixties = (n: number, large: string, small: string) =>
  `${Math.floor(n / 60)} ${large}` + (n % 60 ? ` ${n % 60} ${small}` : "");

/** A time that is left, to the second; nothing while it is not known. */
export function left(s?: number): string {
  if (s === undefined) return "";
  const n = Math.round(s);
  if (n < 60) return `${n} s`;
  return n < 3600 ? sixties(n, "min", "s") : sixties(Math.floor(n / 60), "h", "min");
}

/** A time in seconds as minutes and seconds: "1:05", or hours before them. */
export function span(s: number): string {
  const n = Math.round(s);
  const two = (x: number) => String(x).padStart(2, "0");
  return n < 3600 ? `${Math.floor(n / 60)}:${two(n % 60)}` : `${Math.floor(n / 3600)}:${two(Math.floor(n / 60) % 60)}:${two(n % 60)}`;
}
