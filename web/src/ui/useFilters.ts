import { useSearchParams } from "react-router";

/** Filters that live in the address, so that a search can be kept as a bookmark. */
export function useFilters() {
  const [params, setParams] = useSearchParams();
  const setAll = (values: Record<string, string>) => {
    setParams(
      (old) => {
        const next = new URLSearchParams(old);
        for (const [name, value] of Object.entries(values)) {
          if (value) next.set(name, value);
          else next.delete(name);
        }
        return next;
      },
      { replace: true },
    );
  };
  return {
    params,
    value: (name: string) => params.get(name) ?? "",
    set: (name: string, value: string) => {
      setAll({ [name]: value });
    },
    setAll,
    clear: () => {
      setParams({});
    },
  };
}
