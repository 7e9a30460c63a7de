/** A schedule while it is put together. */
export interface Plan {
  name: string;
  preset: string;
  often: string;
  days: string[];
  time: string;
  zone: string;
  until: string;
  count: string;
  own: string;
  /** What a browser that changes is, in words such as browser=chromium. */
  change: string;
  missed: string;
  overlap: string;
}

const week = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

/** The recurrence rule (RFC 5545), or the change of a browser, that a plan stands for. */
export function ruleOf(p: Plan): string {
  const end = p.until ? `;UNTIL=${p.until.replaceAll("-", "")}` : p.count ? `;COUNT=${p.count}` : "";
  if (p.often === "change") return `when ${p.change.trim()} changes`;
  if (p.often === "own") return p.own.trim() + (p.own.trim() ? end : "");
  const [hour = "0", minute = "0"] = p.time.split(":");
  const days =
    p.often === "WEEKLY" && p.days.length > 0
      ? `;BYDAY=${week.filter((d) => p.days.includes(d)).join(",")}`
      : "";
  return `FREQ=${p.often}${days};BYHOUR=${Number(hour)};BYMINUTE=${Number(minute)};BYSECOND=0${end}`;
}

/** A moment as a wall clock shows it in a zone. */
export function inZone(iso: string, zone: string): string {
  try {
    return new Intl.DateTimeFormat("en-GB", {
      timeZone: zone,
      weekday: "short",
      day: "numeric",
      month: "short",
      year: "numeric",
      hour: "2-digit",
      minute: "2-digit",
      timeZoneName: "shortOffset",
    }).format(new Date(iso));
  } catch {
    return iso;
  }
}
