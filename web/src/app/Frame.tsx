import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Suspense, useState } from "react";
import { Link, NavLink, Outlet, useLocation } from "react-router";
import { get, post, Problem, remove, type SignInWays, type Storage, type Who } from "../api/client";
import { Button, Empty, Trouble, Waiting } from "../ui/parts";
import { Broken } from "./Broken";
import { useTheme } from "./useTheme";

/** The pages in the order of the work: what runs, what it runs on, what is planned. */
const groups: [string, [string, string][]][] = [
  [
    "What runs",
    [
      ["/", "Overview"],
      ["/runs", "Runs"],
      ["/trends", "Trends"],
      ["/sessions", "Sessions"],
      ["/start", "New run"],
      ["/connect", "Your runner"],
    ],
  ],
  [
    "What it runs on",
    [
      ["/fleet", "Fleet"],
      ["/matrix", "Matrix"],
      ["/recordings", "Recordings"],
    ],
  ],
  ["What is planned", [["/schedules", "Schedules"]]],
  ["Who may do it", [["/people", "People"]]],
];

/** Pages that stand under another one's name. */
const beneath: Record<string, string[]> = {
  "/trends": ["/unsteady", "/aside", "/compare"],
  "/runs": ["/bisects", "/defects"],
};

/** What surrounds every page; without a session it is the sign-in page. */
export function Frame() {
  const { pathname: page } = useLocation();
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  if (me.isPending) return <Waiting />;
  if (me.error instanceof Problem && me.error.status === 401) return <SignIn />;
  if (me.error) return <Trouble error={me.error} again={() => void me.refetch()} />;
  if (me.data.share) return <Shared who={me.data} page={page} />;
  return (
    <div className="min-h-screen">
      <header className="flex h-12 items-center gap-6 border-b border-line bg-sheet px-5">
        <Link to="/" className="flex items-center gap-2 font-semibold tracking-wide">
          <img src="/glass.svg" alt="" width={20} height={20} />
          Parallel Pane
        </Link>
        <nav aria-label="Main" className="flex text-sm">
          {groups.map(([what, pages]) => (
            <div
              key={what}
              role="group"
              aria-label={what}
              title={what}
              className="flex gap-0.5 border-l border-line px-2.5 first:border-l-0 first:pl-0"
            >
              {pages.map(([to, name]) => (
                <NavLink
                  key={to}
                  to={to}
                  end={to === "/"}
                  className={({ isActive }) =>
                    `rounded px-2.5 py-1.5 whitespace-nowrap ${isActive || beneath[to]?.some((p) => page.startsWith(p)) ? "bg-raised text-ink" : "text-soft hover:text-ink"}`
                  }
                >
                  {name}
                </NavLink>
              ))}
            </div>
          ))}
        </nav>
        <Person who={me.data} />
      </header>
      <Room />
      <main className="mx-auto max-w-[1500px] px-5 py-4">
        <Broken page={page}>
          <Suspense fallback={<Waiting />}>
            <Outlet />
          </Suspense>
        </Broken>
      </main>
    </div>
  );
}

/** What surrounds a page for somebody who has a share link to it. */
function Shared({ who, page }: { who: Who; page: string }) {
  return (
    <div className="min-h-screen">
      <header className="flex h-12 items-center gap-6 border-b border-line bg-sheet px-5">
        <span className="flex items-center gap-2 font-semibold tracking-wide">
          <img src="/glass.svg" alt="" width={20} height={20} />
          Parallel Pane
        </span>
        <p className="text-sm text-soft">
          {who.owner} shares {who.share?.about} with you.
        </p>
      </header>
      <main className="mx-auto max-w-[1500px] px-5 py-4">
        <Broken page={page}>
          <Suspense fallback={<Waiting />}>
            <Outlet />
          </Suspense>
        </Broken>
      </main>
    </div>
  );
}

/** A disk that is nearly full is everybody's business. */
function Room() {
  const storage = useQuery({
    queryKey: ["storage"],
    queryFn: () => get<Storage>("/storage"),
    refetchInterval: 30_000,
  });
  if (!storage.data?.full) return null;
  return (
    <p role="alert" className="border-b border-failed bg-failed/15 px-5 py-2 text-sm">
      {storage.data.full}
    </p>
  );
}

function Person({ who }: { who: Who }) {
  const queries = useQueryClient();
  const [theme, setTheme] = useTheme();
  const leave = async () => {
    await remove("/console/session");
    queries.clear();
    location.assign("/");
  };
  return (
    <div className="ml-auto flex items-center gap-3 text-sm text-soft">
      <Link to="/people/me" className="whitespace-nowrap hover:text-ink">
        {who.owner}, {who.role}
      </Link>
      <Button
        className="text-xs"
        onClick={() => {
          setTheme(theme === "dark" ? "light" : "dark");
        }}
      >
        {theme === "dark" ? "Light" : "Dark"}
      </Button>
      <Button className="text-xs" onClick={() => void leave()}>
        Sign out
      </Button>
    </div>
  );
}

function SignIn() {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const ways = useQuery({ queryKey: ["sign in"], queryFn: () => get<SignInWays>("/sign-in") });
  const [error, setError] = useState<Error>();
  const enter = async () => {
    try {
      await post("/console/session", { token: token.trim() });
      await queries.invalidateQueries();
    } catch (e) {
      setError(e as Error);
    }
  };
  return (
    <main className="mx-auto mt-24 max-w-md px-5">
      <h1 className="flex items-center gap-3 text-xl font-semibold">
        <img src="/glass.svg" alt="" width={28} height={28} />
        Parallel Pane
      </h1>
      <p className="mt-4 text-soft">
        Sign in with a token, or open a one-time link: <code className="font-mono text-ink">pane link</code>{" "}
        prints one. The first token lies in the service&apos;s data directory, in{" "}
        <code className="font-mono text-ink">admin.token</code>.
      </p>
      <form
        className="mt-6 grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          void enter();
        }}
      >
        <label className="grid gap-1.5 text-sm font-medium">
          Token
          <input
            type="password"
            autoComplete="current-password"
            value={token}
            onChange={(e) => {
              setToken(e.target.value);
            }}
            className="rounded border border-line bg-sheet px-3 py-2 font-mono"
          />
        </label>
        <Button type="submit" kind="accent" className="justify-center" disabled={token.trim() === ""}>
          Sign in
        </Button>
      </form>
      {error && <Trouble error={error} />}
      {ways.data?.provider && (
        <p className="mt-6 border-t border-line pt-6">
          <a
            className="flex justify-center rounded border border-line bg-sheet px-3 py-1.5 text-sm hover:bg-raised"
            href="/sign-in/with"
          >
            Sign in with {ways.data.provider}
          </a>
        </p>
      )}
    </main>
  );
}

export function Nowhere() {
  return (
    <Empty title="There is no such page">
      <Link className="text-accent underline" to="/">
        On to the runs
      </Link>
    </Empty>
  );
}
