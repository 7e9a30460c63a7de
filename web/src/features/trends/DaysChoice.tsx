import { Choice } from "../../ui/parts";
import type { useFilters } from "../../ui/useFilters";

/** How many days back; kept in the address. */
export function DaysChoice({ filters }: { filters: ReturnType<typeof useFilters> }) {
  return (
    <Choice
      label="Days"
      value={filters.value("days") || "30"}
      onChange={(v) => {
        filters.set("days", v);
      }}
      options={["7", "30", "90", "400"].map((n) => [n, `last ${n} days`])}
    />
  );
}
