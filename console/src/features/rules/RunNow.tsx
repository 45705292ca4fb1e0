import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { type Rule, api, told } from "../../shared/api/client";
import { Dialog } from "../../shared/ui/Dialog";
import { FolderList } from "../../shared/ui/FolderList";

/** Runs the rule on a file that is picked by browsing. */
export function RunNow({ rule, open, onClose }: { rule: Rule; open: boolean; onClose: () => void }) {
  const navigate = useNavigate();
  const [folder, setFolder] = useState(rule.folder);
  const run = useMutation({
    mutationFn: (what: { file?: string; all?: boolean }) => told(api.POST("/api/v1/rules/{name}/run", { params: { path: { name: rule.name } }, body: what })),
    onSuccess: (started) => navigate(`/runs/${started.run}`),
  });
  return (
    <Dialog title={rule.place ? `Run “${rule.title}” on which files?` : `Run “${rule.title}” now?`} open={open} onClose={onClose}>
      <p className="flex flex-wrap gap-2 pb-3">
        <button type="button" className="btn btn-sm btn-primary" disabled={run.isPending} onClick={() => run.mutate({})}>
          {rule.place ? "All it is about" : "Run it"}
        </button>
        {rule.place && <button type="button" className="btn btn-sm" disabled={run.isPending} onClick={() => run.mutate({ all: true })}>
          All, also those it took before
        </button>}
      </p>
      {rule.place && <p className="quiet pb-2 text-sm">Or on one, also if the rule took that before:</p>}
      {run.error && (
        <p role="alert" className="text-error pb-2">
          {run.error.message}
        </p>
      )}
      {rule.place && (
        <div className="max-h-96 overflow-y-auto">
          <FolderList place={rule.place} folder={folder} onFolder={setFolder} onFile={(path) => run.mutate({ file: path })} />
        </div>
      )}
      <div className="flex justify-end pt-3">
        <button type="button" className="btn" onClick={onClose}>
          Close
        </button>
      </div>
    </Dialog>
  );
}
