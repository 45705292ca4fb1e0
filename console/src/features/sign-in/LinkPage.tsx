import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Schemas, api, told } from "../../shared/api/client";
import { toProvider, waysQuery } from "../../shared/api/me";
import { Told, Typed } from "../../shared/form/Typed";
import { day } from "../../shared/ui/format";
import { Shown } from "../../shared/ui/states";

/** By a link that was made for her, a user chooses her password. */
function Choose({ link, shown }: { link: string; shown: Schemas["ShownLink"] }) {
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const { data: ways } = useQuery(waysQuery);
  const vouched = useMutation({ mutationFn: () => toProvider({ link }) });
  const open = useMutation({
    mutationFn: () => told(api.POST("/api/v1/session/link", { body: { link, password, ...(code.trim() && { code }) } })),
    onSuccess: () => window.location.assign("/"),
  });
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        open.mutate();
      }}
    >
      <p>
        This link is for <b>{shown.title}</b>. Your name here is <b className="file">{shown.user}</b>: you sign in with it and the password that you choose now.
      </p>
      <input type="text" autoComplete="username" value={shown.user ?? ""} readOnly hidden />
      <Typed label="Your new password" type="password" autoComplete="new-password" value={password} onChange={setPassword} hint="At least 12 characters; three or four words make a good one." />
      {shown.code && <Typed label="Code of your second factor" inputMode="numeric" autoComplete="one-time-code" value={code} onChange={setCode} />}
      <Told error={open.error} />
      <button type="submit" className="btn btn-primary justify-self-start" disabled={!password || open.isPending}>
        Keep it and sign in
      </button>
      {ways?.provider && (
        <>
          <button type="button" className="btn justify-self-start" disabled={vouched.isPending} onClick={() => vouched.mutate()}>
            Use {ways.provider} in place of a password
          </button>
          <Told error={vouched.error} />
        </>
      )}
      <p className="quiet text-sm">The link opens once, until {day(shown.until)}.</p>
    </form>
  );
}

/** Lets whoever may read the data folder in. A click opens it, not a look: programs that look at links use none up. */
function Enter({ link }: { link: string }) {
  const open = useMutation({
    mutationFn: () => told(api.POST("/api/v1/session/link", { body: { link } })),
    onSuccess: () => window.location.assign("/"),
  });
  return (
    <div className="grid gap-3">
      <p>This link signs this browser in as whoever may use the service's own machine: everything may be looked at and changed.</p>
      <Told error={open.error} />
      <button type="button" className="btn btn-primary justify-self-start" disabled={open.isPending} onClick={() => open.mutate()}>
        Sign in
      </button>
    </div>
  );
}

/** The page of a link that opens once. */
export function LinkPage({ link }: { link: string }) {
  const shown = useQuery({ queryKey: ["link", link], queryFn: () => told(api.POST("/api/v1/links/look", { body: { link } })), retry: false });
  return (
    <main className="mx-auto grid max-w-md gap-4 px-4 py-16">
      <h1 className="text-2xl font-bold">Welcome to Wetbank</h1>
      <Shown query={shown}>{(what) => (what.user ? <Choose link={link} shown={what} /> : <Enter link={link} />)}</Shown>
      {shown.error && (
        <a href="/sign-in" className="link">
          Sign in with name and password
        </a>
      )}
    </main>
  );
}
