// A form made from a JSON Schema, with the library's logic and our looks. Its
// usual validator compiles with eval, which our Content-Security-Policy
// forbids; this one interprets. The service decides anyway.
import { Validator } from "@cfworker/json-schema";
import Form, { getDefaultRegistry, type IChangeEvent } from "@rjsf/core";
import { getTemplate } from "@rjsf/utils";
import type { BaseInputTemplateProps, ErrorSchema, FieldTemplateProps, ObjectFieldTemplateProps, RJSFSchema, ValidatorType, WidgetProps } from "@rjsf/utils";
import { useRef, type FormEvent, type ReactNode } from "react";
import { unit } from "./say";

type Values = Record<string, unknown>;

// A whole number too long for this language stays the text of its digits; the
// service reads it as the number that is due.
const long = /^-?\d{16,18}$/;
const number = (text: string) => (long.test(text) && !Number.isSafeInteger(Number(text)) ? text : Number(text));
const at = (data: unknown, path: string) => path.split("/").slice(1).reduce<unknown>((v, k) => (v as Values | undefined)?.[k], data);

const faults = (schema: RJSFSchema, data: unknown) =>
  new Validator(schema as never, "2020-12", false)
    .validate(data)
    .errors.filter((e) => !["properties", "items", "$ref", "allOf"].includes(e.keyword) && !(e.keyword === "type" && long.test(String(at(data, e.instanceLocation)))));

const validator: ValidatorType<Values> = {
  isValid: (schema, data) => faults(schema, data).length === 0,
  rawValidation: ((schema: RJSFSchema, data: unknown) => ({ errors: faults(schema, data) })) as never,
  validateFormData: (data, schema) => {
    const tree: Record<string, unknown> = {};
    const errors = faults(schema, data).map((e) => {
      const path = e.instanceLocation.replace(/^#\/?/, "").split("/").filter(Boolean);
      const missing = e.keyword === "required" ? /"([^"]+)"/.exec(e.error)?.[1] : undefined;
      if (missing) path.push(missing);
      const say = missing ? "is missing" : e.keyword === "pattern" ? "does not have the right form" : e.keyword === "format" ? "is not of the right format" : e.error.charAt(0).toLowerCase() + e.error.slice(1);
      let there = tree;
      for (const p of path) there = (there[p] ??= {}) as Record<string, unknown>;
      there.__errors = [...((there.__errors as string[]) ?? []), say];
      return { stack: `${path.join(".")} ${say}`, message: say, property: "." + path.join("."), name: e.keyword };
    });
    return { errors, errorSchema: tree as ErrorSchema<Values> };
  },
};

function Input({ id, value, required, onChange, onBlur, onFocus, schema, placeholder, rawErrors }: BaseInputTemplateProps) {
  const numeric = schema.type === "number" || schema.type === "integer";
  return (
    <input
      id={id}
      className="field font-mono text-[12px]"
      type={numeric ? "number" : "text"}
      step={schema.type === "integer" ? 1 : "any"}
      value={(value as string | number | undefined) ?? ""}
      required={required}
      placeholder={placeholder}
      aria-invalid={rawErrors?.length ? true : undefined}
      aria-describedby={`${id}__about`}
      onChange={(e) => onChange(e.target.value === "" ? undefined : numeric ? number(e.target.value) : e.target.value)}
      onBlur={(e) => onBlur(id, e.target.value)}
      onFocus={(e) => onFocus(id, e.target.value)}
    />
  );
}

// Day is a text field that takes whatever one pastes, right or wrong, with a calendar beside it.
function Day(props: WidgetProps) {
  const calendar = useRef<HTMLInputElement>(null);
  const Base = getTemplate("BaseInputTemplate", props.registry, props.options);
  const value = (props.value as string | undefined) ?? "";
  return (
    <span className="relative flex gap-1">
      <Base {...props} placeholder="2026-05-08" />
      <button type="button" aria-label={`Choose ${props.label} in a calendar`} className="rounded-sm border border-joint-strong px-2 text-ink-2 hover:text-ink" onClick={() => calendar.current?.showPicker()}>
        ▦
      </button>
      <input ref={calendar} type="date" aria-hidden tabIndex={-1} className="absolute right-0 bottom-0 h-0 w-0 opacity-0" value={/^\d{4}-\d{2}-\d{2}$/.test(value) ? value : ""} onChange={(e) => e.target.value && props.onChange(e.target.value)} />
    </span>
  );
}

function Choice({ id, value, options, onChange, required }: WidgetProps) {
  return (
    <select id={id} className="field" value={(value as string | undefined) ?? ""} required={required} onChange={(e) => onChange(e.target.value === "" ? undefined : e.target.value)}>
      <option value="">{required ? "choose…" : "not said"}</option>
      {options.enumOptions?.map((o) => (
        <option key={String(o.value)} value={String(o.value)}>
          {o.label}
        </option>
      ))}
    </select>
  );
}

// Moment is a text: a date and time keeps the offset it was given with.
function Moment(props: WidgetProps) {
  const Base = getTemplate("BaseInputTemplate", props.registry, props.options);
  return <Base {...props} />;
}

function Tick({ id, value, onChange, label }: WidgetProps) {
  return (
    <label className="flex items-center gap-2">
      <input id={id} type="checkbox" checked={!!value} onChange={(e) => onChange(e.target.checked)} /> {label}
    </label>
  );
}

function Field({ id, label, required, rawErrors, children, schema, hidden }: FieldTemplateProps) {
  if (hidden) return <div className="hidden">{children}</div>;
  if (schema.type === "object") return <>{children}</>;
  return (
    <div className="mb-2.5">
      <label htmlFor={id} className="flex items-baseline gap-2">
        <span className="font-mono text-[12px]">{label}</span>
        {unit(label, schema) && <span className="label">in {unit(label, schema)}</span>}
        <span className={required ? "text-[11.5px] font-semibold text-ink" : "label"}>{required ? "required" : "optional"}</span>
      </label>
      {children}
      <p id={`${id}__about`} className="text-[12px] text-ink-3">
        {schema.description}
      </p>
      {rawErrors?.map((e) => (
        <p key={e} className="text-[12px] text-bad">
          {label} {e}
        </p>
      ))}
    </div>
  );
}

// required gives the fields that must be filled in, in the order in which the contract names them.
function required(schema: Values): string[] {
  const known = Object.keys((schema.properties ?? {}) as Values);
  return ((schema.required ?? []) as string[]).filter((k) => known.includes(k));
}

const Fields = ({ properties }: ObjectFieldTemplateProps) => <div>{properties.map((p) => p.content)}</div>;

// The library's own field for numbers would make a number of every text.
const TextField = getDefaultRegistry<Values>().fields.StringField!;

export default function SchemaForm({ id, schema, value, onChange, onSubmit, unchecked, children }: { id: string; schema: Values; value: Values; onChange: (v: Values) => void; onSubmit: (v: Values) => void; unchecked?: boolean; children: ReactNode }) {
  return (
    <Form<Values>
      idPrefix={id}
      schema={{ ...schema, title: undefined, description: undefined } as RJSFSchema}
      formData={value}
      validator={validator}
      showErrorList={false}
      noHtml5Validate
      noValidate={unchecked}
      uiSchema={{ "ui:submitButtonOptions": { norender: true }, "ui:order": [...required(schema), "*"] }}
      templates={{ BaseInputTemplate: Input, FieldTemplate: Field, ObjectFieldTemplate: Fields }}
      fields={{ NumberField: TextField }}
      widgets={{ SelectWidget: Choice, CheckboxWidget: Tick, DateTimeWidget: Moment, DateWidget: Day }}
      formContext={{}}
      onChange={(e: IChangeEvent<Values>) => onChange(e.formData ?? {})}
      onSubmit={(e: IChangeEvent<Values>, ev: FormEvent) => {
        ev.preventDefault();
        onSubmit(e.formData ?? {});
      }}
    >
      {children}
    </Form>
  );
}
