import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { type Hold, api, told } from "../api/client";
import { RuleLink } from "./RuleLink";
import { Dialog } from "./Dialog";
import { Time, splitPath } from "./format";
import { May } from "./May";

/** A failure is a sentence, a remedy and a button, in that order. */
export function HoldCard({ hold }: { hold: Hold }) {
  const client = useQueryClient();
  const [dismissing, setDismissing] = useState(false);
  const [why, setWhy] = useState("");
  const done = () => client.invalidateQueries({ queryKey: ["live"] });
  const release = useMutation({ mutationFn: () => told(api.POST("/api/v1/holds/{item}/release", { params: { path: { item: hold.item } } })), onSettled: done });
  const dismiss = useMutation({
    mutationFn: () => told(api.POST("/api/v1/holds/{item}/dismiss", { params: { path: { item: hold.item } }, body: { why } })),
    onSuccess: () => setDismissing(false),
    onSettled: done,
  });
  const error = release.error ?? dismiss.error;
  return (
    <article className="flex flex-wrap items-start gap-x-4 gap-y-2 px-4 py-3">
      <span className="badge badge-soft badge-error mt-0.5">held</span>
      <div className="min-w-64 flex-1">
        <p className="[overflow-wrap:anywhere]">
          <Link to={`/runs/${hold.run}`} className="file plain font-semibold">
            {splitPath(hold.file).name}
          </Link>{" "}
          stopped at <strong className="font-semibold">{hold.step}</strong>, <Time at={hold.since} />
        </p>
        <p className="quiet text-sm [overflow-wrap:anywhere]">
          <RuleLink rule={hold.rule} title={hold.title} />
          : {hold.why}. {hold.remedy}
        </p>
        {error && (
          <p role="alert" className="text-error pt-1 text-sm">
            {error.message}
          </p>
        )}
      </div>
      <May as="operator">
        <div className="flex gap-2">
          <button type="button" className="btn btn-sm btn-primary" disabled={release.isPending} onClick={() => release.mutate()}>
            Release
          </button>
          <button type="button" className="btn btn-sm" onClick={() => setDismissing(true)}>
            Dismiss…
          </button>
        </div>
      </May>
      <Dialog title={`Give up ${splitPath(hold.file).name}?`} open={dismissing} onClose={() => setDismissing(false)}>
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            dismiss.mutate();
          }}
        >
          <p>The file stays where it is, and this rule leaves it alone.</p>
          <label className="grid gap-1">
            <span className="font-semibold">Why</span>
            <input className="input w-full" required value={why} onChange={(event) => setWhy(event.target.value)} />
          </label>
          <div className="flex justify-end gap-2">
            <button type="button" className="btn" onClick={() => setDismissing(false)}>
              Keep it held
            </button>
            <button type="submit" className="btn btn-error" disabled={dismiss.isPending || !why.trim()}>
              Dismiss
            </button>
          </div>
        </form>
      </Dialog>
    </article>
  );
}
