/** Numbers, sizes and times in the words of the house; pure functions. */

const NARROW = "\u202f";

export function group(n: number): string {
  return String(n).replace(/\B(?=(\d{3})+$)/g, NARROW);
}

export function count(n: number, noun: string, plural = `${noun}s`): string {
  return `${group(n)} ${n === 1 ? noun : plural}`;
}

/** How many findings have which effect: "7 findings change behaviour, none break users". */
export function effectsPhrase(effects: Record<string, number>, judged = true): string {
  const { breaks = 0, alters = 0 } = effects;
  const change = alters === 1 ? "changes" : "change";
  if (breaks) return `${count(breaks, "finding")} may break users${alters ? `, ${group(alters)} ${change} behaviour` : ""}`;
  if (!judged) return alters ? `${count(alters, "finding")} ${change} behaviour, the rest is not judged` : "its effects are not judged";
  return alters ? `${count(alters, "finding")} ${change} behaviour, none break users` : "no change of behaviour";
}

export function size(bytes: number): string {
  let value = bytes;
  for (const unit of ["B", "KB", "MB", "GB"]) {
    if (value < 1000) return `${value >= 10 || unit === "B" ? Math.round(value) : value.toFixed(1)} ${unit}`;
    value /= 1000;
  }
  return `${value.toFixed(1)} TB`;
}

const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

export function when(iso: string | null | undefined, now = new Date()): string {
  if (!iso) return "";
  const at = new Date(iso);
  const clock = `${String(at.getHours()).padStart(2, "0")}:${String(at.getMinutes()).padStart(2, "0")}`;
  const days = dayNumber(now) - dayNumber(at);
  if (days === 0) return `today ${clock}`;
  if (days > 0 && days < 7) return `${DAYS[at.getDay()]} ${clock}`;
  return at.getFullYear() === now.getFullYear() ? day(at) : `${day(at)} ${at.getFullYear()}`;
}

/** A day without its year. */
export function day(at: Date): string {
  return `${at.getDate()} ${MONTHS[at.getMonth()]}`;
}

function dayNumber(date: Date): number {
  return Math.floor(new Date(date.getFullYear(), date.getMonth(), date.getDate()).getTime() / 86_400_000 + 0.5);
}

/** 3 today, 2 this week, 1 this month, 0 earlier. */
export function tone(iso: string | null | undefined, now = new Date()): 0 | 1 | 2 | 3 {
  if (!iso) return 0;
  const days = dayNumber(now) - dayNumber(new Date(iso));
  return days <= 0 ? 3 : days < 7 ? 2 : days < 31 ? 1 : 0;
}

/** What an artifact is called where its path would be too long: the file's name. */
export function fileName(path: string): string {
  return path.split("/").pop() ?? path;
}

export function value(v: unknown): string {
  if (v === null || v === undefined) return "none";
  if (typeof v === "string") return v;
  if (typeof v === "object") {
    return Object.entries(v as Record<string, unknown>)
      .filter(([k]) => k !== "id" && k !== "name")
      .map(([k, x]) => `${k} ${value(x)}`)
      .join(", ");
  }
  return String(v);
}
