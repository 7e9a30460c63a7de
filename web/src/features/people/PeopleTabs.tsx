import { useQuery } from "@tanstack/react-query";
import { NavLink } from "react-router";
import { get, type Who } from "../../api/client";

/** The pages about people: their tokens, and for admins what was done. */
export function PeopleTabs() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  const pages: [string, string][] = [["/people", "Tokens"]];
  if (me.data?.rights.some((r) => r.role === "admin")) pages.push(["/people/audit", "Who did what"]);
  return (
    <nav aria-label="People" className="flex gap-1 text-sm">
      {pages.map(([to, name]) => (
        <NavLink
          key={to}
          to={to}
          end
          className={({ isActive }) =>
            `rounded border px-3 py-1.5 ${isActive ? "border-accent text-ink" : "border-line text-soft hover:text-ink"}`
          }
        >
          {name}
        </NavLink>
      ))}
    </nav>
  );
}
