import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { useNavigate } from "react-router";
import { get, post, type Who } from "../../api/client";
import { Button, Empty, Sheet, Trouble, Waiting } from "../../ui/parts";
import { useTitle } from "../../ui/useTitle";

/** What a share link opens: it goes on to the page that it shows. */
export function SharedPage() {
  useTitle("Shared");
  const go = useNavigate();
  const queries = useQueryClient();
  const secret = location.hash.slice(1);
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), retry: false });
  const open = useMutation({
    mutationFn: () => post<Who>("/console/session", { token: secret }),
    onSuccess: async (who) => {
      queries.clear();
      await go(who.share?.path ?? "/", { replace: true });
    },
  });
  const own = me.data && !me.data.share;
  const { mutate } = open;
  useEffect(() => {
    if (!me.isPending && !own && secret) mutate();
  }, [me.isPending, own, secret, mutate]);
  if (!secret)
    return (
      <Sheet className="m-6">
        <Empty title="This link is not whole">
          What follows # is missing: ask for the link again, or copy all of it.
        </Empty>
      </Sheet>
    );
  if (open.error)
    return (
      <Sheet className="m-6">
        <Trouble error={open.error} />
        <Empty title="This link shows nothing any more">
          It has ended, was withdrawn, or is not whole. Ask whoever gave it to you for another.
        </Empty>
      </Sheet>
    );
  if (me.isPending || !own) return <Waiting />;
  return (
    <Sheet className="m-6" title="A shared page">
      <div className="grid gap-3 p-5 text-sm">
        <p>
          You are signed in as <strong>{me.data.name}</strong>. To see what this link shows, you are signed
          out here first.
        </p>
        <div className="flex gap-2">
          <Button
            kind="accent"
            onClick={() => {
              mutate();
            }}
          >
            Sign out and open it
          </Button>
          <Button
            onClick={() => {
              void go("/");
            }}
          >
            Stay signed in
          </Button>
        </div>
      </div>
    </Sheet>
  );
}
