import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { formsQuery } from "../../shared/form/schema";
import { SectionEditor } from "../../shared/section/SectionEditor";
import { fieldsOfKind } from "../../shared/section/SectionOf";
import { Crumbs } from "../../shared/ui/Crumbs";
import { Shown } from "../../shared/ui/states";

const WAYS = [
  { way: "add", title: "Add", about: "What is missing there is added. Nothing there is replaced or deleted." },
  { way: "update", title: "Update", about: "What is missing there or newer here goes there. Nothing is deleted." },
  { way: "exact", title: "Exact", about: "There as here: what is not here is deleted there, and kept for 30 days." },
  { way: "both", title: "Both", about: "Each change follows to the other side, deletions too; they are kept for 30 days." },
] as const;

export function NewTwinPage() {
  const navigate = useNavigate();
  const [way, setWay] = useState<string>("both");
  return (
    <div className="grid max-w-4xl gap-4">
      <div>
        <Crumbs to="/twins" above="Twins" here="new" />
        <h1 className="text-2xl font-bold tracking-tight">Add a twin</h1>
        <p className="quiet pt-1">
          Two folders that are kept alike. The first pass deletes and replaces nothing, and you can look at what it would do before it is made.
        </p>
      </div>
      <fieldset className="grid gap-2 sm:grid-cols-2">
        <legend className="pb-1 font-semibold">Which changes follow?</legend>
        {WAYS.map((one) => (
          <label key={one.way} className="flex items-start gap-2">
            <input type="radio" name="twin-way" className="radio radio-sm mt-0.5" checked={way === one.way} onChange={() => setWay(one.way)} />
            <span>
              {one.title} <span className="quiet block text-sm">{one.about}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <Shown query={useQuery(formsQuery)}>
        {() => (
          <SectionEditor
            key={way}
            kind="twin"
            name=""
            slot={way}
            text={`[twin.new-twin]\nway = "${way}"\nstarts = { hand = {} }\n`}
            version={undefined}
            fields={fieldsOfKind("twin")}
            onDone={(name) => void navigate(`/twins/${name}`)}
          />
        )}
      </Shown>
    </div>
  );
}
