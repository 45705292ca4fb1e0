import { useMutation } from "@tanstack/react-query";
import { useState } from "react";

import { api, told } from "../../shared/api/client";

export function SignInPage() {
  const [token, setToken] = useState("");
  const signIn = useMutation({ mutationFn: () => told(api.POST("/api/v1/session", { body: { token } })), onSuccess: () => window.location.assign("/") });
  return (
    <main className="mx-auto grid max-w-lg gap-4 px-4 py-24">
      <h1 className="text-2xl font-bold">Sign in to Wetbank</h1>
      <p className="quiet">
        Open the link that the service printed when it started, or paste the token that stands in the file <code className="file">token</code> of its data
        folder.
      </p>
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate();
        }}
      >
        <label className="grid gap-1">
          <span className="font-semibold">Token</span>
          <input type="password" autoComplete="current-password" className="input w-full" value={token} onChange={(event) => setToken(event.target.value)} />
        </label>
        {signIn.error && (
          <p role="alert" className="text-error">
            {signIn.error.message}
          </p>
        )}
        <button type="submit" className="btn btn-primary justify-self-start" disabled={!token.trim() || signIn.isPending}>
          Sign in
        </button>
      </form>
    </main>
  );
}
