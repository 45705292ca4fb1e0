import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams } from "react-router";

import { api, told } from "../../shared/api/client";
import { SectionEditor } from "../../shared/section/SectionEditor";
import { SectionOf, fieldsOfKind } from "../../shared/section/SectionOf";
import { Crumbs } from "../../shared/ui/Crumbs";
import { DropFile } from "../../shared/ui/DropFile";

/** Days off out of a calendar file. */
function FromFile({ name }: { name: string }) {
  const client = useQueryClient();
  const put = useMutation({
    mutationFn: async (file: File) => told(api.POST("/api/v1/calendars/{name}/days-off", { params: { path: { name } }, body: { text: await file.text() } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["live"] }),
  });
  return (
    <div className="grid gap-1">
      <DropFile label="Drop a calendar file (.ics) here, or choose it: its days off are added" accept=".ics,text/calendar" onFile={(file) => put.mutate(file)} />
      {put.error && (
        <p role="alert" className="text-error [overflow-wrap:anywhere]">
          {put.error.message}
        </p>
      )}
      {put.isSuccess && <output>✓ Added.</output>}
    </div>
  );
}

export function CalendarPage() {
  const { name = "" } = useParams();
  return (
    <div className="grid max-w-4xl gap-4">
      <div>
        <Crumbs to="/settings" above="Settings" here={name} />
        <h1 className="text-2xl font-bold tracking-tight">Calendar {name}</h1>
      </div>
      <FromFile name={name} />
      <SectionOf kind="calendar" name={name} />
    </div>
  );
}

export function NewCalendarPage() {
  const navigate = useNavigate();
  return (
    <div className="grid max-w-4xl gap-4">
      <div>
        <Crumbs to="/settings" above="Settings" here="new" />
        <h1 className="text-2xl font-bold tracking-tight">Add a calendar</h1>
      </div>
      <SectionEditor kind="calendar" name="" text={"[calendar.new-calendar]\n"} version={undefined} fields={fieldsOfKind("calendar")} onDone={(name) => void navigate(`/settings/calendars/${name}`)} />
    </div>
  );
}
