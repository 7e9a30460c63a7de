import Form from "@rjsf/core/lib/components/Form.js";
import type {
  ArrayFieldItemTemplateProps,
  BaseInputTemplateProps,
  FieldTemplateProps,
  IconButtonProps,
  ObjectFieldTemplateProps,
  RJSFSchema,
  UiSchema,
  ValidatorType,
  WidgetProps,
} from "@rjsf/utils";
import { useMemo, useState } from "react";
import type { DefectForm } from "../../api/client";
import { Button } from "../../ui/parts";

const box = "w-full rounded border border-line bg-ground px-2.5 py-1.5 text-sm placeholder:text-soft";

/** The service checks what is filed against the tracker's form; here nothing is checked twice. */
const unchecked: ValidatorType = {
  validateFormData: () => ({ errors: [], errorSchema: {} }),
  isValid: () => true,
  rawValidation: () => ({ errors: [] }),
};

function Input(p: BaseInputTemplateProps) {
  const number = p.schema.type === "number" || p.schema.type === "integer";
  return (
    <input
      id={p.id}
      className={box}
      type={number ? "number" : "text"}
      step={p.schema.type === "integer" ? 1 : "any"}
      required={p.required}
      minLength={p.schema.minLength}
      maxLength={p.schema.maxLength}
      value={(p.value as string | number | undefined) ?? ""}
      onChange={(e) => {
        const text = e.target.value;
        p.onChange(text === "" ? undefined : number ? Number(text) : text);
      }}
    />
  );
}

function Long(p: WidgetProps) {
  const text = (p.value as string | undefined) ?? "";
  return (
    <textarea
      id={p.id}
      className={`${box} font-mono text-xs`}
      required={p.required}
      maxLength={p.schema.maxLength}
      rows={Math.min(14, Math.max(3, text.split("\n").length))}
      value={text}
      onChange={(e) => {
        p.onChange(e.target.value || undefined);
      }}
    />
  );
}

/** A list of texts, a line each. */
function Lines(p: WidgetProps) {
  const list = (p.value as string[] | undefined) ?? [];
  return (
    <textarea
      id={p.id}
      className={box}
      rows={Math.min(8, Math.max(2, list.length))}
      value={list.join("\n")}
      onChange={(e) => {
        p.onChange(e.target.value === "" ? [] : e.target.value.split("\n"));
      }}
    />
  );
}

function Select(p: WidgetProps) {
  const options = p.options.enumOptions ?? [];
  const at = options.findIndex((o) => o.value === p.value);
  return (
    <select
      id={p.id}
      className="justify-self-start rounded border border-line bg-ground px-2 py-1.5 text-sm"
      required={p.required}
      value={at < 0 ? "" : String(at)}
      onChange={(e) => {
        p.onChange(e.target.value === "" ? undefined : (options[Number(e.target.value)]?.value as unknown));
      }}
    >
      <option value="">choose</option>
      {options.map((o, i) => (
        <option key={o.label} value={i}>
          {o.label}
        </option>
      ))}
    </select>
  );
}

function Check(p: WidgetProps) {
  return (
    <label className="flex items-center gap-2 text-sm">
      <input
        type="checkbox"
        id={p.id}
        checked={p.value === true}
        onChange={(e) => {
          p.onChange(e.target.checked);
        }}
      />
      {p.label}
    </label>
  );
}

function Row(p: FieldTemplateProps) {
  if (p.hidden) return <div className="hidden">{p.children}</div>;
  const alone = p.schema.type === "object" || p.schema.type === "boolean";
  return (
    <div className="grid gap-1">
      {!alone && (
        <label htmlFor={p.id} className="text-sm font-medium">
          {p.label}
          {p.required && <span className="text-failed"> *</span>}
        </label>
      )}
      {p.schema.description && <p className="text-xs text-soft">{p.schema.description}</p>}
      {p.children}
    </div>
  );
}

function Group(p: ObjectFieldTemplateProps) {
  return <div className="grid gap-3">{p.properties.map((x) => x.content)}</div>;
}

function Item(p: ArrayFieldItemTemplateProps) {
  return (
    <div className="flex items-start gap-2 border-l border-line pl-3">
      <div className="grow">{p.children}</div>
      <Button className="text-xs" onClick={p.buttonsProps.onRemoveItem}>
        Take out
      </Button>
    </div>
  );
}

function Add({ onClick, disabled }: IconButtonProps) {
  return (
    <Button className="text-xs" onClick={onClick} disabled={disabled}>
      Add one
    </Button>
  );
}

const templates = {
  BaseInputTemplate: Input,
  FieldTemplate: Row,
  ObjectFieldTemplate: Group,
  ArrayFieldItemTemplate: Item,
  ButtonTemplates: { AddButton: Add },
};
const widgets = { TextareaWidget: Long, SelectWidget: Select, CheckboxWidget: Check, LinesWidget: Lines };

/** What is longer than this, or may be as long as a report, gets more than a line. */
const aLine = 120;
const aReport = 1000;

function long(value: unknown, most: number | undefined): boolean {
  const text = typeof value === "string" ? value : "";
  return text.includes("\n") || text.length > aLine || (most ?? 0) > aReport;
}

/** How the fields of a form are drawn; what holds pictures is not. */
export function drawn(
  schema: RJSFSchema,
  values: Record<string, unknown>,
): { schema: RJSFSchema; ui: UiSchema } {
  const ui: UiSchema = {};
  const properties: NonNullable<RJSFSchema["properties"]> = {};
  for (const [name, field] of Object.entries(schema.properties ?? {})) {
    const items = typeof field === "object" && typeof field.items === "object" ? field.items : undefined;
    if (typeof field !== "object") continue;
    if (items && "contentEncoding" in items) continue;
    properties[name] = field;
    if (field.type === "array" && items && "type" in items && items.type === "string" && !("enum" in items))
      ui[name] = { "ui:widget": "LinesWidget" };
    if (field.type === "string" && field.format) ui[name] = { "ui:widget": "text" };
    if (field.type === "string" && !field.enum && !field.format && long(values[name], field.maxLength))
      ui[name] = { "ui:widget": "textarea" };
  }
  return { schema: { ...schema, properties }, ui };
}

/** A tracker's form, drawn from its JSON Schema. */
export function TrackerForm({
  form,
  busy,
  onFile,
  onClose,
}: {
  form: DefectForm;
  busy: boolean;
  onFile: (values: Record<string, unknown>) => void;
  onClose: () => void;
}) {
  const { schema, ui } = useMemo(() => drawn(form.schema as RJSFSchema, form.values), [form]);
  const [values, setValues] = useState<Record<string, unknown>>(form.values);
  return (
    <Form
      className="max-w-4xl"
      schema={schema}
      uiSchema={ui}
      formData={values}
      validator={unchecked}
      templates={templates}
      widgets={widgets}
      showErrorList={false}
      onChange={(e) => {
        setValues((e.formData as Record<string, unknown> | undefined) ?? {});
      }}
      onSubmit={(e) => {
        onFile((e.formData as Record<string, unknown> | undefined) ?? {});
      }}
    >
      <div className="mt-4 flex gap-2">
        <Button kind="accent" type="submit" disabled={busy}>
          {busy ? "Filing…" : form.like.length > 0 ? "File it, it is another" : "File it"}
        </Button>
        <Button onClick={onClose}>Not now</Button>
      </div>
    </Form>
  );
}
