import { Search } from "./Search";
import type { useFilters } from "./useFilters";

/** A search whose text is kept in the address. */
export function Find({
  filters,
  label,
  size,
}: {
  filters: ReturnType<typeof useFilters>;
  label: string;
  size?: number;
}) {
  return (
    <Search
      {...(size && { size })}
      label={label}
      text={filters.value("text")}
      onText={(v) => {
        filters.set("text", v);
      }}
    />
  );
}
