import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import {
  get,
  post,
  type Device,
  type KnownSuite,
  type Matrix,
  type PlannedMatrix,
  type Preview,
  type Why,
} from "../../api/client";
import { Glass } from "../../ui/Glass";
import {
  Button,
  Choice,
  Copyable,
  Field,
  Hint,
  Labelled,
  Sheet,
  Toggle,
  Trouble,
  Waiting,
} from "../../ui/parts";
import { many } from "../../ui/words";
import { asYAML, chosen, fromMatrix, type Draft } from "./draft";
import { DevicePicker } from "./DevicePicker";
import { useTitle } from "../../ui/useTitle";

/** What will this cost? Axes as toggles, rules, a cover; what it comes to in the lab as it is. */
export function MatrixPage() {
  useTitle("Matrix");
  const sources = useSources();
  const [params, setParams] = useSearchParams();
  const [draft, setDraft] = useState<Draft>();
  if (sources.isPending) return <Waiting />;
  if (sources.error) return <Trouble error={sources.error} again={() => void sources.refetch()} />;
  const list = sources.data;
  const from = params.get("from");
  const current = draft ?? fromMatrix(list.find((s) => s.name === from) ?? list[0]);
  const start = (name: string) => {
    setDraft(undefined);
    setParams({ from: name }, { replace: true });
  };
  return (
    <div className="grid grid-cols-[24rem_minmax(0,1fr)] items-start gap-4">
      <Editor draft={current} onDraft={setDraft} sources={list} onStart={start} />
      <Result draft={current} />
    </div>
  );
}

interface Source {
  name: string;
  project: string;
  matrix: Matrix;
}

/** Matrices to start from: what the lab has, and those of suites that were run before. */
function useSources() {
  return useQuery({
    queryKey: ["matrix sources"],
    queryFn: async (): Promise<Source[]> => {
      const [why, devices, suites] = await Promise.all([
        get<Why>("/why?needs="),
        get<Device[]>("/devices"),
        get<KnownSuite[]>("/suites"),
      ]);
      const own: Source[] = [];
      for (const s of suites) {
        const p = await post<Preview>("/runs/preview", { bundle: s.bundle, suite: s.suite }).catch(
          () => null,
        );
        for (const m of p?.matrices ?? [])
          if (!own.some((o) => o.project === s.project && o.matrix.name === m.name))
            own.push({ name: `${s.project}: ${m.name}`, project: s.project, matrix: m });
      }
      const axes = (["browser", "os", "mode"] as const)
        .map((name) => ({ name, values: why.facts[name] ?? [] }))
        .filter((a) => a.values.length > 0);
      const lab: Matrix = {
        name: "lab",
        axes: [...axes, { name: "device", values: someOfEach(devices).map((d) => d.name) }],
        cover: { strength: 2 },
      };
      return [...own, { name: "everything the lab has", project: "", matrix: lab }];
    },
    staleTime: 60_000,
  });
}

/** The first four devices of each family. */
function someOfEach(devices: Device[]): Device[] {
  const seen = new Map<string, number>();
  return devices.filter((d) => {
    const n = (seen.get(d.family ?? "") ?? 0) + 1;
    seen.set(d.family ?? "", n);
    return n <= 4;
  });
}

const covers: [string, string][] = [
  ["0", "all: every combination"],
  ["1", "each: every value once"],
  ["2", "pairs"],
  ["3", "triples"],
  ["4", "strength 4"],
  ["5", "strength 5"],
  ["6", "strength 6"],
];

function Editor({
  draft,
  onDraft,
  sources,
  onStart,
}: {
  draft: Draft;
  onDraft: (d: Draft) => void;
  sources: Source[];
  onStart: (name: string) => void;
}) {
  const [axis, setAxis] = useState("");
  const set = (part: Partial<Draft>) => {
    onDraft({ ...draft, ...part });
  };
  const setOff = (name: string, value: string, on: boolean) => {
    const key = `${name}=${value}`;
    set({ off: on ? draft.off.filter((k) => k !== key) : [...draft.off, key] });
  };
  const joined = (name: string, list: string[]) => {
    const old = draft.axes.find((a) => a.name === name);
    return old
      ? draft.axes.map((a) => (a === old ? { ...a, values: [...new Set([...a.values, ...list])] } : a))
      : [...draft.axes, { name, values: list }];
  };
  const add = () => {
    const [name, values] = axis.split("=");
    const list = (values ?? "")
      .split(/[|,]/)
      .map((v) => v.trim())
      .filter(Boolean);
    if (!name?.trim() || list.length === 0) return;
    set({ axes: joined(name.trim(), list) });
    setAxis("");
  };
  const devices = (draft.axes.find((a) => a.name === "device")?.values ?? []).filter(
    (v) => !draft.off.includes(`device=${v}`),
  );
  const pick = (name: string, on: boolean) => {
    const off = draft.off.filter((k) => k !== `device=${name}`);
    set(on ? { axes: joined("device", [name]), off } : { off: [...off, `device=${name}`] });
  };
  return (
    <Sheet
      title="Matrix"
      aside={
        <Choice
          label="Start from"
          value={draft.name}
          onChange={onStart}
          options={sources.map((s) => [s.name, s.name])}
        />
      }
    >
      <div className="grid grid-cols-[minmax(0,1fr)] gap-4 p-4">
        {draft.axes.map((a) => (
          <fieldset key={a.name} className="min-w-0">
            <legend className="mb-1.5 flex w-full text-sm">
              <span className="font-medium">{a.name}</span>
              <button
                type="button"
                className="ml-auto text-xs text-soft hover:text-ink"
                onClick={() => {
                  set({ axes: draft.axes.filter((o) => o !== a) });
                }}
              >
                remove axis
              </button>
            </legend>
            <div className="flex flex-wrap gap-1.5">
              {a.values.map((v) => (
                <Toggle
                  key={v}
                  on={!draft.off.includes(`${a.name}=${v}`)}
                  onChange={(on) => {
                    setOff(a.name, v, on);
                  }}
                >
                  {v}
                </Toggle>
              ))}
            </div>
          </fieldset>
        ))}
        <form
          className="flex gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            add();
          }}
        >
          <Field
            label="Another axis or value: version=latest|latest-1"
            value={axis}
            onChange={(e) => {
              setAxis(e.target.value);
            }}
            size={30}
          />
          <Button type="submit">Add</Button>
        </form>
        <div>
          <DevicePicker chosen={devices} onChange={pick} />
        </div>
        <Labelled
          label="Rules that must hold, one in each line"
          help={'Expressions over the axes, such as device != "phone" || browser == "webkitgtk".'}
        >
          <textarea
            rows={3}
            value={draft.only}
            onChange={(e) => {
              set({ only: e.target.value });
            }}
            className="rounded border border-line bg-sheet px-2.5 py-1.5 font-mono text-xs"
          />
        </Labelled>
        {draft.drop.length > 0 && (
          <div className="text-sm text-soft">
            Dropped:{" "}
            {draft.drop.map((d) => (
              <span key={JSON.stringify(d)} className="mr-3">
                {Object.entries(d)
                  .map(([k, v]) => `${k}=${v.join("|")}`)
                  .join(" ")}
              </span>
            ))}
          </div>
        )}
        <div className="flex gap-4">
          <Labelled label="Cover">
            <Choice
              label="Cover"
              value={String(draft.strength)}
              onChange={(v) => {
                set({ strength: Number(v) });
              }}
              options={covers}
            />
          </Labelled>
          <Labelled label="Seed">
            <Field
              label="seed"
              type="number"
              min={0}
              value={draft.seed}
              onChange={(e) => {
                set({ seed: e.target.value });
              }}
              className="w-24"
            />
          </Labelled>
        </div>
        <details>
          <summary className="cursor-pointer text-sm text-soft">As YAML, for pane.yaml</summary>
          <div className="mt-2">
            <Copyable label="The matrix as YAML" text={asYAML(draft)} />
          </div>
        </details>
      </div>
    </Sheet>
  );
}

function Result({ draft }: { draft: Draft }) {
  const matrix = useMemo(() => chosen(draft), [draft]);
  const plan = useQuery({
    queryKey: ["matrix plan", matrix, draft.project],
    queryFn: () => post<PlannedMatrix>("/matrix/plan", { matrix, project: draft.project }),
    placeholderData: (old) => old,
    staleTime: 15_000,
    retry: false,
  });
  if (plan.isPending) return <Waiting />;
  if (plan.error) return <Trouble error={plan.error} />;
  const p = plan.data;
  const points = matrix.axes.reduce((n, a) => n * a.values.length, 1);
  const impossible = p.combinations.filter((c) => c.impossible).length;
  return (
    <div className={`grid gap-4 ${plan.isFetching ? "opacity-70" : ""}`}>
      <Sheet
        title={
          <span aria-live="polite">
            <b className="text-xl">{p.combinations.length}</b> combinations of {points.toLocaleString("en")}
          </span>
        }
        aside={
          <span className="text-sm text-soft">
            {matrix.cover.strength > 0 &&
              `${p.cover.covered} of ${p.cover.tuples} tuples of ${p.cover.strength} values are met`}
            {impossible > 0 && `, ${impossible} that nobody can run`}
          </span>
        }
      >
        <ul className="grid grid-cols-[repeat(auto-fill,minmax(15rem,1fr))] gap-2 p-3">
          {p.combinations.slice(0, 400).map((c, i) => (
            <li key={c.key}>
              <Hint
                text={
                  c.impossible ??
                  `${many(p.agents[i]?.length ?? 0, "agent")}: ${(p.agents[i] ?? []).join(", ")}`
                }
              >
                <span
                  className="flex items-center gap-2.5 rounded border border-line px-2.5 py-2 text-sm"
                  tabIndex={0}
                >
                  <Glass
                    fill={c.impossible ? "unsupported" : "queued"}
                    size={20}
                    label={c.impossible ? "nobody can run it" : "can be run"}
                  />
                  <span className="min-w-0">
                    <span className="block truncate">{c.label}</span>
                    <span className={`block text-xs ${c.impossible ? "text-failed" : "text-soft"}`}>
                      {c.impossible ? "no agent" : many(p.agents[i]?.length ?? 0, "agent")}
                    </span>
                  </span>
                </span>
              </Hint>
            </li>
          ))}
        </ul>
        {p.combinations.length > 400 && (
          <p className="px-4 pb-3 text-sm text-soft">and {p.combinations.length - 400} more</p>
        )}
      </Sheet>
      {p.missing.length + p.cover.left > 0 && (
        <Sheet title={`${p.missing.length + p.cover.left} left out, and why`}>
          <table className="w-full text-left text-sm">
            <tbody>
              {p.missing.slice(0, 100).map((m) => (
                <tr key={JSON.stringify(m.values)} className="border-t border-line first:border-0">
                  <td className="px-4 py-2 align-top whitespace-nowrap">
                    {Object.values(m.values).join(" · ")}
                  </td>
                  <td className="px-4 py-2 text-soft">{m.reason}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Sheet>
      )}
    </div>
  );
}
