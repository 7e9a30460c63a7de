import { useQuery } from "@tanstack/react-query";
import { get, type Who } from "../../api/client";
import { Tabs } from "../../ui/Tabs";
import { isAdmin } from "./rights";

/** The pages about people: their tokens, what they keep secret and hear of, and for admins what was done. */
export function PeopleTabs() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  const pages: [string, string][] = [
    ["/people", "Tokens"],
    ["/people/me", "You"],
  ];
  if (isAdmin(me.data)) pages.push(["/people/accounts", "Accounts"]);
  if (me.data?.rights.some((r) => r.role !== "viewer" && r.role !== "agent"))
    pages.push(
      ["/people/secrets", "Secrets"],
      ["/people/hears", "Who hears"],
      ["/people/shares", "Share links"],
    );
  if (me.data?.rights.some((r) => r.role === "admin")) pages.push(["/people/audit", "Who did what"]);
  return <Tabs label="People" pages={pages} />;
}
