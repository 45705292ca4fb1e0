import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { QRCodeSVG } from "qrcode.react";
import { useState } from "react";
import { Link } from "react-router";

import { type Schemas, api, told } from "../../shared/api/client";
import { ROLE_WORDS, meQuery, toProvider } from "../../shared/api/me";
import { Told, Typed } from "../../shared/form/Typed";
import { Failure, Shown } from "../../shared/ui/states";

/** Changes one's password; other browsers are signed out. */
export function Password() {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/me/password", { body: { old, new: next } })),
    onSuccess: async () => {
      setOld("");
      setNext("");
      await client.invalidateQueries({ queryKey: ["live"] });
    },
  });
  return (
    <form
      className="grid gap-3 px-4 py-3 sm:grid-cols-2"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <Typed label="Password now" type="password" autoComplete="current-password" value={old} onChange={setOld} />
      <Typed label="New password" type="password" autoComplete="new-password" value={next} onChange={setNext} hint="At least 12 characters; three or four words make a good one." />
      <div className="sm:col-span-2">
        <Told error={change.error} />
        {change.isSuccess && <output>The password is changed. All other browsers are signed out.</output>}
      </div>
      <p className="sm:col-span-2">
        <button type="submit" className="btn btn-sm" disabled={!old || !next || change.isPending}>
          Change the password
        </button>
      </p>
    </form>
  );
}

/** Shows the seed to an app, and wants a code of it before it counts. */
function Confirm({ codes, onDone }: { codes: Schemas["NewCodes"]; onDone: () => void }) {
  const client = useQueryClient();
  const [code, setCode] = useState("");
  const confirm = useMutation({
    mutationFn: () => told(api.PUT("/api/v1/me/second-factor", { body: { seed: codes.seed, code } })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["live"] });
      onDone();
    },
  });
  return (
    <form
      className="grid gap-4 px-4 py-3 sm:grid-cols-[auto_1fr]"
      onSubmit={(event) => {
        event.preventDefault();
        confirm.mutate();
      }}
    >
      <span className="justify-self-start rounded bg-white p-3">
        <QRCodeSVG value={codes.address} size={168} title="The picture that the app reads" />
      </span>
      <div className="grid content-start gap-3">
        <p>Let an app for one-time codes read this picture, or type this into it:</p>
        <code className="file [overflow-wrap:anywhere]">{codes.seed.replaceAll(/(.{4})/g, "$1 ")}</code>
        <Typed label="The code that it shows" inputMode="numeric" autoComplete="one-time-code" value={code} onChange={setCode} />
        <Told error={confirm.error} />
        <p className="flex gap-2">
          <button type="submit" className="btn btn-sm btn-primary" disabled={code.trim().length < 6 || confirm.isPending}>
            Ask for a code from now on
          </button>
          <button type="button" className="btn btn-ghost btn-sm" onClick={onDone}>
            Cancel
          </button>
        </p>
      </div>
    </form>
  );
}

/** A code that is asked for besides the password. */
export function SecondFactor({ me }: { me: Schemas["Me"] }) {
  const client = useQueryClient();
  const [codes, setCodes] = useState<Schemas["NewCodes"]>();
  const [password, setPassword] = useState("");
  const begin = useMutation({ mutationFn: () => told(api.POST("/api/v1/me/second-factor/new")), onSuccess: setCodes });
  const remove = useMutation({
    mutationFn: () => told(api.DELETE("/api/v1/me/second-factor", { body: { password } })),
    onSuccess: async () => {
      setPassword("");
      await client.invalidateQueries({ queryKey: ["live"] });
    },
  });
  if (codes && !me.code) return <Confirm codes={codes} onDone={() => setCodes(undefined)} />;
  if (!me.code)
    return (
      <div className="grid gap-2 px-4 py-3">
        <p className="quiet">Only your password is asked for. With a second factor whoever learns it cannot sign in with it.</p>
        {begin.error && <Failure error={begin.error} />}
        <button type="button" className="btn btn-sm justify-self-start" disabled={begin.isPending} onClick={() => begin.mutate()}>
          Set up a second factor
        </button>
      </div>
    );
  return (
    <form
      className="grid gap-3 px-4 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        remove.mutate();
      }}
    >
      <p>A code of your app is asked for at each sign-in.</p>
      <Typed label="Password, to give it up" type="password" autoComplete="current-password" value={password} onChange={setPassword} />
      <Told error={remove.error} />
      <button type="submit" className="btn btn-sm justify-self-start" disabled={!password || remove.isPending}>
        Give the second factor up
      </button>
    </form>
  );
}

/** Whether the provider vouches for one. */
export function Connected({ me }: { me: Schemas["Me"] }) {
  const client = useQueryClient();
  const connect = useMutation({ mutationFn: () => toProvider({ connect: true }) });
  const leave = useMutation({ mutationFn: () => told(api.DELETE("/api/v1/me/provider")), onSuccess: () => client.invalidateQueries({ queryKey: ["live"] }) });
  return (
    <div className="grid gap-2 px-4 py-3">
      <p className="quiet">{me.vouched ? "It knows you." : "It does not know you yet."}</p>
      <Told error={connect.error ?? leave.error} />
      <button type="button" className="btn btn-sm justify-self-start" disabled={connect.isPending || leave.isPending} onClick={() => (me.vouched ? leave : connect).mutate()}>
        {me.vouched ? "Not any more" : "Connect"}
      </button>
    </div>
  );
}

function SignOut() {
  const leave = useMutation({ mutationFn: () => told(api.DELETE("/api/v1/session")), onSuccess: () => window.location.assign("/sign-in") });
  return (
    <>
      {leave.error && <Failure error={leave.error} />}
      <button type="button" className="btn btn-sm" disabled={leave.isPending} onClick={() => leave.mutate()}>
        Sign out
      </button>
    </>
  );
}

/** Who one is here. */
export function Yourself() {
  return (
    <Shown query={useQuery(meQuery)}>
      {(me) => (
        <div className="flex flex-wrap items-center gap-4 px-4 py-3">
          <p className="min-w-0 flex-1">
            <b className="[overflow-wrap:anywhere]">{me.title}</b> {me.user && <span className="file quiet text-sm">{me.user}</span>}
            <br />
            <span className="quiet text-sm">
              {me.role}: {ROLE_WORDS[me.role]}
              {!me.user && (
                <>
                  . You came by a link or the token of the service's own machine; records tell "{me.who}".{" "}
                  <Link to="/settings?tab=people" className="link">
                    Add yourself by name
                  </Link>
                </>
              )}
            </span>
          </p>
          <SignOut />
        </div>
      )}
    </Shown>
  );
}
