import { useSearchParams } from "react-router";

/** Filters that live in the address, so that a search can be kept as a bookmark. */
export function useFilters() {
  const [params, setParams] = useSearchParams();
  const set = (name: string, value: string) => {
    setParams(
      (old) => {
        const next = new URLSearchParams(old);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  };
  return {
    params,
    value: (name: string) => params.get(name) ?? "",
    set,
    clear: () => {
      setParams({});
    },
  };
}
