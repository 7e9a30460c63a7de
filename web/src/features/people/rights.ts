import type { Token, Who } from "../../api/client";

type Rights = Who["rights"];

/** Rights in words, such as “runner in saltmarsh, viewer”. */
export function inWords(rights: Rights): string {
  return rights.map((r) => (r.project === "*" ? r.role : `${r.role} in ${r.project}`)).join(", ");
}

export function mayDo(t: Token): string {
  return t.agent
    ? `agent ${t.agent}${t.pool && t.pool !== "shared" ? `, for ${t.pool} alone` : ""}`
    : inWords(t.rights);
}

export function isAdmin(who?: Who): boolean {
  return who?.rights.some((r) => r.project === "*" && r.role === "admin") ?? false;
}

/** Whether a text occurs in what a list shows of a token. */
export function matches(t: Token, text: string): boolean {
  return `${t.name} ${t.owner} ${mayDo(t)} ${t.console ? "signed in" : ""}`
    .toLowerCase()
    .includes(text.trim().toLowerCase());
}
