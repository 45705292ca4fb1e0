import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";

import { api, told } from "../../shared/api/client";
import { formsQuery } from "../../shared/form/schema";
import { SectionEditor } from "../../shared/section/SectionEditor";
import { SectionOf, fieldsOfKind } from "../../shared/section/SectionOf";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Shown } from "../../shared/ui/states";

function Test({ name }: { name: string }) {
  const test = useMutation({ mutationFn: () => told(api.POST("/api/v1/databases/{name}/test", { params: { path: { name } } })) });
  return (
    <p className="flex flex-wrap items-center gap-3">
      <button type="button" className="btn btn-sm btn-primary" disabled={test.isPending} onClick={() => test.mutate()}>
        {test.isPending ? "Testing…" : "Test"}
      </button>
      {test.error && <span role="alert">{test.error.message}</span>}
      {test.data && (
        <output className={test.data.fine ? "text-success" : "text-error"}>
          {test.data.fine ? "✓ " : "✕ "}
          {test.data.said}
        </output>
      )}
    </p>
  );
}

export function DatabasePage() {
  const { name = "" } = useParams();
  return (
    <div className="grid max-w-4xl gap-4">
      <div>
        <Crumbs to="/settings" above="Settings" here={name} />
        <h1 className="text-2xl font-bold tracking-tight">Database {name}</h1>
      </div>
      <Test name={name} />
      <SectionOf kind="database" name={name} />
    </div>
  );
}

export function NewDatabasePage() {
  const navigate = useNavigate();
  const [kind, setKind] = useState("sqlite");
  return (
    <div className="grid max-w-4xl gap-4">
      <div>
        <Crumbs to="/settings" above="Settings" here="new" />
        <h1 className="text-2xl font-bold tracking-tight">Add a database</h1>
      </div>
      <Shown query={useQuery(formsQuery)}>
        {(forms) => (
          <>
            <fieldset className="grid gap-2 sm:grid-cols-2">
              <legend className="pb-1 font-semibold">What is it?</legend>
              {forms.databases.map((one) => (
                <label key={one.kind} className="flex items-start gap-2">
                  <input type="radio" name="kind" className="radio radio-sm mt-0.5" checked={kind === one.kind} onChange={() => setKind(one.kind)} />
                  <span>
                    {one.label} <span className="quiet block text-sm">{one.about}</span>
                  </span>
                </label>
              ))}
            </fieldset>
            <SectionEditor
              key={kind}
              kind="database"
              name=""
              slot={kind}
              text={`[database.new-database]\nkind = "${kind}"\n`}
              version={undefined}
              fields={fieldsOfKind("database")}
              onDone={(name) => void navigate(`/settings/databases/${name}`)}
            />
          </>
        )}
      </Shown>
    </div>
  );
}
