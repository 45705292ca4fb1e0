import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";

import { ApiError, api, told } from "../../shared/api/client";
import { toProvider, waysQuery } from "../../shared/api/me";
import { openPasskey, passkeysWork } from "../../shared/api/passkeys";
import { Told, Typed } from "../../shared/form/Typed";
import { ownPage } from "./ownPage";

/** Signs in with name and password, and the code of a second factor where one is asked for. */
function ByName({ onIn }: { onIn: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const signIn = useMutation({
    mutationFn: () => told(api.POST("/api/v1/session", { body: { name, password, ...(code.trim() && { code }) } })),
    onSuccess: onIn,
  });
  const asksCode = signIn.error instanceof ApiError && signIn.error.problem.code === "second-factor";
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        signIn.mutate();
      }}
    >
      <Typed label="Name" autoComplete="username" value={name} onChange={setName} />
      <Typed label="Password" type="password" autoComplete="current-password" value={password} onChange={setPassword} />
      {(asksCode || code) && <Typed label="Code of your second factor" inputMode="numeric" autoComplete="one-time-code" value={code} onChange={setCode} />}
      <Told error={asksCode && !code ? null : signIn.error} />
      <button type="submit" className="btn btn-primary justify-self-start" disabled={!name.trim() || !password || signIn.isPending}>
        Sign in
      </button>
    </form>
  );
}

/** Signs in with a key that a device holds. */
function ByPasskey({ onIn }: { onIn: () => void }) {
  const signIn = useMutation({
    mutationFn: async () => {
      const asked = await told(api.POST("/api/v1/session/passkey/new"));
      await told(api.POST("/api/v1/session/passkey", { body: { id: asked.id, credential: await openPasskey(asked) } }));
    },
    onSuccess: onIn,
  });
  if (!passkeysWork()) return null;
  return (
    <div className="grid gap-2">
      <button type="button" className="btn justify-self-start" disabled={signIn.isPending} onClick={() => signIn.mutate()}>
        Sign in with a passkey
      </button>
      <Told error={signIn.error} />
    </div>
  );
}

/** Why the provider brought nobody in: the address has a word only, never a text. */
const WHY: Record<string, string> = {
  nobody: "It vouches for you, but you have no name here. Ask an owner for a link, and open that first.",
  others: "What it calls you belongs to another user here.",
  link: "Your link was used already, or its time is over.",
  provider: "It could not be asked, or its answer does not hold. Try again; the service's log says more.",
};

/** Signs in by whoever vouches for people here. */
function ByProvider({ why }: { why: string | null }) {
  const { data } = useQuery(waysQuery);
  const signIn = useMutation({ mutationFn: () => toProvider({}) });
  if (!data?.provider) return null;
  return (
    <div className="grid gap-2">
      {why && (
        <p role="alert" className="text-error">
          {WHY[why] ?? WHY["provider"]}
        </p>
      )}
      <button type="button" className="btn justify-self-start" disabled={signIn.isPending} onClick={() => signIn.mutate()}>
        Sign in with {data.provider}
      </button>
      <Told error={signIn.error} />
    </div>
  );
}

/** Signs in with the token that lies in the data folder. */
function ByToken({ onIn }: { onIn: () => void }) {
  const [token, setToken] = useState("");
  const signIn = useMutation({ mutationFn: () => told(api.POST("/api/v1/session", { body: { token } })), onSuccess: onIn });
  return (
    <form
      className="grid gap-3 pt-3"
      onSubmit={(event) => {
        event.preventDefault();
        signIn.mutate();
      }}
    >
      <Typed label="Token" type="password" autoComplete="off" value={token} onChange={setToken} />
      <Told error={signIn.error} />
      <button type="submit" className="btn justify-self-start" disabled={!token.trim() || signIn.isPending}>
        Sign in with the token
      </button>
    </form>
  );
}

export function SignInPage() {
  const [asked] = useSearchParams();
  const enter = () => window.location.assign(ownPage(asked.get("to")));
  return (
    <main className="mx-auto grid max-w-md gap-4 px-4 py-16">
      <h1 className="text-2xl font-bold">Sign in to Wetbank</h1>
      <ByName onIn={enter} />
      <ByPasskey onIn={enter} />
      <ByProvider why={asked.get("why")} />
      <details>
        <summary className="quiet cursor-pointer text-sm">You have no name here yet?</summary>
        <p className="quiet pt-2 text-sm">
          An owner makes a link for you, by which you choose a password. On the service's own machine <code className="file">wetbank link</code> prints one that opens at
          once; or paste the token that stands in the file <code className="file">token</code> of the data folder.
        </p>
        <ByToken onIn={enter} />
      </details>
    </main>
  );
}
