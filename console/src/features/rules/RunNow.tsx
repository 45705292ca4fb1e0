import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { type Rule, type Started, api } from "../../shared/api/client";
import { Dialog } from "../../shared/ui/Dialog";
import { FolderList } from "../../shared/ui/FolderList";

/** Runs the rule on a file that is picked by browsing. */
export function RunNow({ rule, open, onClose }: { rule: Rule; open: boolean; onClose: () => void }) {
  const navigate = useNavigate();
  const [folder, setFolder] = useState(rule.folder);
  const run = useMutation({
    mutationFn: (file: string) => api.post<Started>(`/rules/${rule.name}/run`, { file }),
    onSuccess: (started) => navigate(`/runs/${started.run}`),
  });
  return (
    <Dialog title={`Run “${rule.title}” on which file?`} open={open} onClose={onClose}>
      <p className="quiet pb-2 text-sm">It runs also if the rule took that file before.</p>
      {run.error && (
        <p role="alert" className="text-error pb-2">
          {run.error.message}
        </p>
      )}
      <div className="max-h-96 overflow-y-auto">
        <FolderList place={rule.place} folder={folder} onFolder={setFolder} onFile={(path) => run.mutate(path)} />
      </div>
      <div className="flex justify-end pt-3">
        <button type="button" className="btn" onClick={onClose}>
          Close
        </button>
      </div>
    </Dialog>
  );
}
