import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, type NewShare, type ShareRequest } from "../../api/client";
import { Button, Choice, Copyable, Trouble } from "../../ui/parts";

type Shown = Omit<ShareRequest, "until">;

/** Makes a link that shows one thing to whoever has it. */
export function Share({
  of,
  title = "As a link, for somebody without an account",
}: {
  of: Shown;
  title?: string;
}) {
  const [days, setDays] = useState("14");
  const queries = useQueryClient();
  const make = useMutation({
    mutationFn: () =>
      post<NewShare>("/shares", {
        ...of,
        until: new Date(Date.now() + Number(days) * 86_400_000).toISOString(),
      }),
    onSettled: () => queries.invalidateQueries({ queryKey: ["shares"] }),
  });
  return (
    <section className="grid gap-2">
      <h3 className="text-sm text-soft">{title}</h3>
      <div className="flex items-center gap-2">
        <Choice
          label="How long"
          value={days}
          onChange={setDays}
          options={[
            ["2", "for two days"],
            ["14", "for two weeks"],
            ["90", "for three months"],
          ]}
        />
        <Button
          disabled={make.isPending}
          onClick={() => {
            make.mutate();
          }}
        >
          Make a link
        </Button>
      </div>
      {make.error && <Trouble error={make.error} />}
      {make.data && (
        <>
          <Copyable label="Copy the link" text={make.data.address} />
          {of.kind === "badge" && <img src={make.data.address} alt="The badge" className="h-[22px]" />}
          <p className="text-xs text-soft">
            Whoever has it sees {make.data.share.about} and what belongs to it, and nothing else. It is shown
            this once; People, Share links, withdraws it.
          </p>
        </>
      )}
    </section>
  );
}
