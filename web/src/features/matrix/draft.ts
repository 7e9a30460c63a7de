import type { Matrix } from "../../api/client";

/** A matrix while it is edited: values can be switched off without being forgotten. */
export interface Draft {
  name: string;
  project: string;
  axes: Matrix["axes"];
  off: string[];
  only: string;
  drop: NonNullable<Matrix["drop"]>;
  add: NonNullable<Matrix["add"]>;
  strength: number;
  coverAxes: string[];
  seed: string;
}

export function fromMatrix(source: { name: string; project: string; matrix: Matrix } | undefined): Draft {
  const m = source?.matrix;
  return {
    name: source?.name ?? "",
    project: source?.project ?? "",
    axes: m?.axes ?? [],
    off: [],
    only: (m?.only ?? []).join("\n"),
    drop: m?.drop ?? [],
    add: m?.add ?? [],
    strength: m?.cover.strength ?? 0,
    coverAxes: m?.cover.axes ?? [],
    seed: m?.seed ? String(m.seed) : "",
  };
}

/** The matrix that a draft stands for. */
export function chosen(d: Draft): Matrix {
  const axes = d.axes
    .map((a) => ({ name: a.name, values: a.values.filter((v) => !d.off.includes(`${a.name}=${v}`)) }))
    .filter((a) => a.values.length > 0);
  const have = (axis: string, value: string) => axes.some((a) => a.name === axis && a.values.includes(value));
  const drop = d.drop
    .map((rule) =>
      Object.fromEntries(
        Object.entries(rule).map(([axis, values]) => [axis, values.filter((v) => have(axis, v))]),
      ),
    )
    .filter((rule) => Object.values(rule).every((v) => v.length > 0));
  return {
    name: d.name.replace(/^.*: /, "") || "matrix",
    axes,
    only: d.only
      .split("\n")
      .map((s) => s.trim())
      .filter(Boolean),
    drop,
    add: d.add,
    cover: { strength: d.strength, axes: d.coverAxes.filter((name) => axes.some((a) => a.name === name)) },
    seed: Number(d.seed) || 0,
  };
}

const names = ["all", "each", "pairs", "triples"];

/** The matrix in the form of pane.yaml. JSON strings are YAML strings. */
export function asYAML(d: Draft): string {
  const m = chosen(d);
  const word = (s: string) =>
    /^[A-Za-z][A-Za-z0-9._-]*$/.test(s) &&
    !["true", "false", "null", "yes", "no", "on", "off", "y", "n"].includes(s.toLowerCase())
      ? s
      : JSON.stringify(s);
  const list = (values: string[]) => `[${values.map(word).join(", ")}]`;
  const lines = [
    "matrices:",
    `  ${word(m.name.replace(/[^A-Za-z0-9._-]+/g, "-"))}:`,
    "    axes:",
    ...m.axes.map((a) => `      ${word(a.name)}: ${list(a.values)}`),
  ];
  if (m.only?.length) lines.push("    only:", ...m.only.map((s) => `      - ${JSON.stringify(s)}`));
  if (m.drop?.length)
    lines.push(
      "    drop:",
      ...m.drop.map(
        (r) =>
          `      - {${Object.entries(r)
            .map(([k, v]) => `${word(k)}: ${list(v)}`)
            .join(", ")}}`,
      ),
    );
  if (m.add?.length)
    lines.push(
      "    add:",
      ...m.add.map(
        (r) =>
          `      - {${Object.entries(r)
            .map(([k, v]) => `${word(k)}: ${word(v)}`)
            .join(", ")}}`,
      ),
    );
  if (m.cover.strength > 0) lines.push(`    cover: ${names[m.cover.strength] ?? m.cover.strength}`);
  if (m.seed) lines.push(`    seed: ${m.seed}`);
  return lines.join("\n");
}
