import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, remove, type ShareLink } from "../../api/client";
import { Confirm, Button, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Find } from "../../ui/Find";
import { useFilters } from "../../ui/useFilters";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago } from "../../ui/words";
import { PeopleTabs } from "../people/PeopleTabs";

/** What is shown to whoever has a link? */
export function SharesPage() {
  useTitle("Share links");
  const filters = useFilters();
  const now = useNow(true);
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["shares"], queryFn: () => get<ShareLink[]>("/shares") });
  const end = useMutation({
    mutationFn: (s: ShareLink) => remove(`/shares/${s.id}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shares"] }),
  });
  const text = filters.value("text").toLowerCase();
  const all = (found.data ?? []).filter((s) =>
    `${s.share.about} ${s.share.project} ${s.by}`.toLowerCase().includes(text),
  );
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <PeopleTabs />
      <Sheet
        title="Share links: each shows one thing to whoever has it"
        aside={<Find filters={filters} label="Find what is shared, or by whom" size={28} />}
      >
        {end.error && <Trouble error={end.error} />}
        {found.isPending ? (
          <Waiting />
        ) : found.error ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : all.length === 0 ? (
          <Empty title={text ? "No share link is like that" : "Nothing is shared"}>
            {text
              ? "Clear the search to see them all."
              : "A run, a test or a session is shared from its own page, with Pass on."}
          </Empty>
        ) : (
          <table className="w-full text-left text-sm">
            <Heads of={["Shows", "Of", "Until", "Last used", "By", ""]} />
            <tbody>
              {all.map((s) => (
                <tr key={s.id} className="border-t border-line">
                  <td className="px-4 py-1.5">
                    {s.share.path ? (
                      <Link className="text-accent hover:underline" to={s.share.path}>
                        {s.share.about}
                      </Link>
                    ) : (
                      s.share.about
                    )}
                  </td>
                  <td className="px-4 py-1.5">{s.share.project}</td>
                  <td className="px-4 py-1.5 text-soft">
                    {s.ended ? "ended" : s.until && new Date(s.until).toLocaleString()}
                  </td>
                  <td className="px-4 py-1.5 text-soft">{s.used_at ? ago(s.used_at, now) : "never"}</td>
                  <td className="px-4 py-1.5">{s.by}</td>
                  <td className="px-4 py-1.5 text-right">
                    <Confirm
                      title="Withdraw this link?"
                      text="Whoever has it sees nothing more."
                      action="Withdraw it"
                      onYes={() => {
                        end.mutate(s);
                      }}
                    >
                      <Button className="text-xs">Withdraw</Button>
                    </Confirm>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Sheet>
    </div>
  );
}
