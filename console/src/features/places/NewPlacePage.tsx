import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";

import { type NewPlace, api, told } from "../../shared/api/client";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Failure, Loading } from "../../shared/ui/states";
import { Labelled } from "../../shared/form/Labelled";
import { type Field, type Kind, formsQuery } from "../../shared/form/schema";
import { type Value, texts } from "../../shared/form/values";
import { PlaceField } from "./PlaceField";
import { Steps } from "./Steps";

interface Typed {
  kind: Kind;
  name: string;
  agrees: boolean;
  /** Keys of the book, of the agreement too. */
  values: Record<string, Value>;
  secrets: Record<string, string>;
}

/** What an agreement asks for; where its lasting half is kept is not typed. */
const AGREEMENT = ["server", "client", "rights"];

const isSecret = (field: Field) => field.shape.is === "secret";

const said = (value: Value | undefined): boolean => value !== undefined && value !== null && String(value as string).trim() !== "";

/** Signing in by agreeing, where the kind has it. */
function agreementOf(kind: Kind): { label: string; help: string; fields: Field[] } | undefined {
  const found = kind.fields.find(({ key }) => key === "agreement");
  if (found?.shape.is !== "group") return undefined;
  return { label: found.label, help: found.help, fields: found.shape.fields.filter(({ key }) => AGREEMENT.includes(key)) };
}

function given(field: Field, text: string): Value {
  if (field.shape.is === "number") return /^\d{1,15}$/.test(text) ? Number(text) : text;
  if (field.shape.is === "flag") return text === "true";
  return field.shape.is === "texts" ? text.split("\n").filter(Boolean) : text;
}

// What the form begins with: a link may fill it in, as one that a colleague sends, but for secrets.
function begun(kinds: Kind[], search: URLSearchParams): Typed | undefined {
  const kind = kinds.find((one) => one.kind === search.get("kind")) ?? kinds[0];
  if (!kind) return undefined;
  const agreement = agreementOf(kind);
  const fields = [...kind.fields, ...(agreement?.fields ?? [])].filter((field) => !isSecret(field));
  const values = fields.flatMap((field) => (search.has(field.key) ? [[field.key, given(field, search.get(field.key) ?? "")] as const] : []));
  const agrees = agreement !== undefined && search.get("sign-in") === "agreement";
  return { kind, name: search.get("name") ?? "", agrees, values: Object.fromEntries(values), secrets: {} };
}

// The kind's fields; who agrees types neither user nor password.
function fieldsOf({ kind, agrees }: Typed): Field[] {
  const own = kind.fields.filter(({ key }) => key !== "agreement");
  return agrees ? own.filter(({ key }) => key !== "user" && key !== "password") : own;
}

function isNeeded(typed: Typed, field: Field): boolean {
  const isSaid = (key: string) => said(typed.values[key]) || said(typed.secrets[key]);
  return field.needed || Object.entries(typed.kind.together).some(([key, with_]) => isSaid(key) && with_.includes(field.key));
}

function placeOf(typed: Typed): NewPlace {
  const fields = fieldsOf(typed);
  const keys: NewPlace["keys"] = {};
  for (const field of fields) {
    const value = typed.values[field.key];
    if (isSecret(field) || value === undefined || value === null || !said(value) || value === field.usual) continue;
    keys[field.key] = typeof value === "string" ? value.trim() : (value as number | boolean | string[]);
  }
  const secrets = fields.filter(isSecret).flatMap(({ key }) => (typed.secrets[key] ? [[key, typed.secrets[key]] as const] : []));
  const text = (key: string) => texts(typed.values[key])[0]?.trim() ?? "";
  return {
    name: typed.name.trim(),
    kind: typed.kind.kind,
    keys,
    secrets: Object.fromEntries(secrets),
    agreement: typed.agrees ? { server: text("server"), client: text("client"), rights: texts(typed.values["rights"]) } : null,
  };
}

// What must be typed before its server can be looked for. A sign-in is never tried unasked:
// half a password, typed again and again, locks accounts.
function isReachable(typed: Typed): boolean {
  const asked = [...fieldsOf(typed), ...(typed.agrees ? (agreementOf(typed.kind)?.fields ?? []) : [])];
  const isTyped = ({ key }: Field) => said(typed.values[key]);
  return asked.some(isTyped) && asked.every((field) => !field.needed || isSecret(field) || isTyped(field));
}

// Which secret does not matter to reaching a server, but that there is one may.
function standIns(typed: Typed): Record<string, string> {
  const secrets = fieldsOf(typed).filter(isSecret);
  const needed = secrets.filter((field) => isNeeded(typed, field));
  const signsIn = typed.kind.fields.some(({ key, needed: always }) => key === "user" && always);
  const asked = needed.length > 0 || !signsIn ? needed : secrets.slice(0, 1);
  return Object.fromEntries(asked.map(({ key }) => [key, "-"]));
}

function isComplete(typed: Typed): boolean {
  return fieldsOf(typed).every((field) => !isNeeded(typed, field) || said(isSecret(field) ? typed.secrets[field.key] : typed.values[field.key]));
}

/** Looks, as one types, whether the server is there; signs in when asked. */
function AsItIsTyped({ typed }: { typed: Typed }) {
  const ready = isReachable(typed);
  // The name and the secret do not matter to reaching a server.
  const place = JSON.stringify(placeOf({ ...typed, name: "", secrets: standIns(typed) }));
  const [settled, setSettled] = useState("");
  useEffect(() => {
    const soon = setTimeout(() => setSettled(place), 700);
    return () => clearTimeout(soon);
  }, [place]);
  const looking = useQuery({
    queryKey: ["try", settled],
    queryFn: () => told(api.POST("/api/v1/places/try", { body: { place: JSON.parse(settled) as NewPlace, sign_in: false } })),
    enabled: ready && settled === place,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
    refetchInterval: false,
    retry: false,
  });
  const signing = useMutation({
    mutationFn: async () => ({ place, tried: await told(api.POST("/api/v1/places/try", { body: { place: placeOf(typed), sign_in: true } })) }),
  });
  const signedIn = signing.data?.place === place ? signing.data.tried : undefined;
  const isSettled = ready && settled === place;
  const trying = { data: signedIn ?? (isSettled ? looking.data : undefined), error: signing.error ?? (isSettled ? looking.error : null), isPending: signing.isPending };
  const tried = trying.data;
  const asks = fieldsOf(typed).some(isSecret);
  return (
    <section aria-label="Test" className="panel min-w-0">
      <div className="grid gap-2 px-5 py-4">
        <h2 className="font-semibold">What is there</h2>
        {!ready && (
          <p className="quiet text-sm">
            {asks ? "It is tested while you type: first whether the server is there and how it is secured." : "It is tested while you type: whether it is there, and what may be done with it."}
          </p>
        )}
        {ready && !tried && !trying.error && <p className="quiet text-sm">Looking…</p>}
        {tried && <p className="file [overflow-wrap:anywhere]">{tried.address}</p>}
        {tried && <Steps steps={tried.steps} />}
        {tried?.identity && (
          <p className="text-sm [overflow-wrap:anywhere]">
            It shows the {tried.identity.what} <span className="file">{tried.identity.fingerprint}</span>. It is confirmed on the place’s page, once it is added.
          </p>
        )}
        {trying.error && (
          <p role="alert" className="text-error text-sm [overflow-wrap:anywhere]">
            {trying.error.message}
          </p>
        )}
        {ready && !typed.agrees && (
          <p>
            <button type="button" className="btn btn-sm" disabled={trying.isPending || !isComplete(typed)} onClick={() => signing.mutate()}>
              {asks ? "Sign in and list" : "Look into it"}
            </button>
          </p>
        )}
      </div>
    </section>
  );
}

export function NewPlacePage() {
  const forms = useQuery(formsQuery);
  if (forms.error) return <Failure error={forms.error} retry={() => void forms.refetch()} />;
  if (!forms.data) return <Loading />;
  return <NewPlaceForm kinds={forms.data.places} />;
}

function NewPlaceForm({ kinds }: { kinds: Kind[] }) {
  const [search] = useSearchParams();
  const [typed, setTyped] = useState(() => begun(kinds, search));
  if (!typed) return null;
  const set = (change: Partial<Typed>) => setTyped({ ...typed, ...change });
  return (
    <>
      <Crumbs to="/places" above="Places" here="new" />
      <h1 className="pb-3 text-2xl font-bold tracking-tight">Add a place</h1>
      <div className="grid items-start gap-5 lg:grid-cols-[minmax(0,48rem)_minmax(18rem,1fr)]">
        <Form kinds={kinds} typed={typed} set={set} />
        <AsItIsTyped key={typed.kind.kind} typed={typed} />
      </div>
    </>
  );
}

function Form({ kinds, typed, set }: { kinds: Kind[]; typed: Typed; set: (change: Partial<Typed>) => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const adding = useMutation({
    mutationFn: async () => {
      const place = placeOf(typed);
      await told(api.POST("/api/v1/places", { body: place }));
      return place.name ?? "";
    },
    onSuccess: async (name) => {
      await client.invalidateQueries({ queryKey: ["live"] });
      // Before somebody signed in there is nothing to test.
      await navigate(typed.agrees ? `/places/${name}` : `/places/${name}?test=now`);
    },
  });
  const agreement = agreementOf(typed.kind);
  const shown = (field: Field) => (
    <PlaceField
      key={field.key}
      field={field}
      needed={isNeeded(typed, field)}
      value={(isSecret(field) ? typed.secrets[field.key] : typed.values[field.key]) ?? null}
      onChange={(value) => set(isSecret(field) ? { secrets: { ...typed.secrets, [field.key]: texts(value)[0] ?? "" } } : { values: { ...typed.values, [field.key]: value } })}
    />
  );
  const fields = fieldsOf(typed);
  const [usual, seldom] = [fields.filter((field) => !field.seldom), fields.filter((field) => field.seldom)];
  const isSeldomSaid = seldom.some(({ key }) => said(typed.values[key]));
  return (
    <div className="panel">
      <form
        className="grid gap-5 px-5 py-4"
        onSubmit={(event) => {
          event.preventDefault();
          adding.mutate();
        }}
      >
        <fieldset className="grid gap-2 sm:grid-cols-2">
          <legend className="pb-1 font-semibold">What is it?</legend>
          {kinds.map((one) => (
            <label key={one.kind} className="flex items-start gap-2">
              <input type="radio" name="kind" className="radio radio-sm mt-0.5" checked={typed.kind.kind === one.kind} onChange={() => set({ kind: one, agrees: false })} />
              <span>
                {one.label} <span className="quiet block text-sm">{one.about}</span>
              </span>
            </label>
          ))}
        </fieldset>
        <Labelled label="Name" help="How rules and people call it: a to z, digits, dashes." needed mistakes={[]}>
          {(aria) => <input {...aria} className="input w-full" pattern="[a-z0-9][a-z0-9_\-]{0,63}" value={typed.name} onChange={(event) => set({ name: event.target.value })} />}
        </Labelled>
        <div className="grid items-start gap-5 sm:grid-cols-2">{usual.map(shown)}</div>
        {agreement && (
          <fieldset className="grid gap-3">
            <legend className="sr-only">{agreement.label}</legend>
            <label className="flex items-start gap-2">
              <input type="checkbox" className="checkbox checkbox-sm mt-0.5" checked={typed.agrees} onChange={(event) => set({ agrees: event.target.checked })} />
              <span>
                {agreement.label} <span className="quiet block text-sm">{agreement.help}</span>
              </span>
            </label>
            {typed.agrees && <div className="grid items-start gap-5 sm:grid-cols-2">{agreement.fields.map(shown)}</div>}
          </fieldset>
        )}
        {seldom.length > 0 && (
          <details open={isSeldomSaid || undefined}>
            <summary className="cursor-pointer font-semibold">More</summary>
            <div className="grid items-start gap-5 pt-3 sm:grid-cols-2">{seldom.map(shown)}</div>
          </details>
        )}
        {adding.error && (
          <p role="alert" className="text-error [overflow-wrap:anywhere]">
            {adding.error.message}
          </p>
        )}
        <p className="flex flex-wrap items-center gap-3">
          <button type="submit" className="btn btn-primary" disabled={adding.isPending}>
            {adding.isPending ? "Adding…" : typed.agrees ? "Add, then sign in" : "Add and test"}
          </button>
          {fields.some(isSecret) && <span className="quiet text-sm">What the server shows of itself is confirmed by you before a file goes there.</span>}
        </p>
      </form>
    </div>
  );
}
