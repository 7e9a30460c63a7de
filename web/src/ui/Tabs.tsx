import { NavLink } from "react-router";

/** The pages of one area, by address and name. */
export function Tabs({ label, pages }: { label: string; pages: [string, string][] }) {
  return (
    <nav aria-label={label} className="flex gap-1 text-sm">
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
