import { useMutation, useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { Link } from "react-router";

import { type Schemas, api, told } from "../../../shared/api/client";
import { placesQuery } from "../../../shared/api/status";
import { FolderDialog } from "../../../shared/form/FolderDialog";
import { Labelled } from "../../../shared/form/Labelled";
import { Picked, Texts } from "../../../shared/form/inputs";
import { isNamed, useNames } from "../../../shared/form/names";
import { rulesQuery } from "../queries";
import type { Starter } from "./queries";

type Question = Schemas["StarterQuestion"];
type Answers = Record<string, string>;

interface Asked {
  question: Question;
  answers: Answers;
  onAnswer: (answers: Answers) => void;
}

/** A folder of a place: both are one answer. */
function Folder({ question, answers, onAnswer }: Asked) {
  const id = useId();
  const places = useQuery(placesQuery);
  const [isOpen, setOpen] = useState(false);
  const [placeKey, folderKey] = [`${question.key}.place`, `${question.key}.folder`];
  const place = answers[placeKey] ?? "";
  return (
    <fieldset className="grid gap-2">
      <legend className="pb-1 font-semibold">{question.label}</legend>
      <div className="grid gap-2 sm:grid-cols-[12rem_minmax(0,1fr)_auto]">
        <select aria-label={`${question.label} The place`} className="select w-full" required value={place} onChange={(event) => onAnswer({ [placeKey]: event.target.value, [folderKey]: "" })}>
          <option value="">which place?</option>
          {places.data?.map(({ name }) => (
            <option key={name} value={name}>
              {name}
            </option>
          ))}
        </select>
        <input
          id={id}
          aria-label={`${question.label} The folder`}
          className="input file w-full"
          placeholder="the root"
          spellCheck={false}
          value={answers[folderKey] ?? ""}
          onChange={(event) => onAnswer({ [folderKey]: event.target.value })}
        />
        <button type="button" className="btn" aria-label={`Browse: ${question.label}`} disabled={place === ""} onClick={() => setOpen(true)}>
          Browse…
        </button>
      </div>
      {place !== "" && (
        <FolderDialog key={place} place={place} isOpen={isOpen} onClose={() => setOpen(false)} onTake={(folder) => onAnswer({ [folderKey]: folder })} />
      )}
    </fieldset>
  );
}

function Named({ question, answers, onAnswer }: Asked) {
  const names = useNames(question.holds);
  const words = names.length === 0 ? "There is none yet: add one first, or leave it open." : "";
  return (
    <Labelled label={question.label} help={words} needed={false} mistakes={[]}>
      {(aria) => <Picked aria={aria} choices={names} value={answers[question.key] ?? ""} onChange={(to) => onAnswer({ [question.key]: typeof to === "string" ? to : "" })} />}
    </Labelled>
  );
}

function One(asked: Asked) {
  const { question, answers, onAnswer } = asked;
  if (question.holds === "folder") return <Folder {...asked} />;
  if (isNamed(question.holds)) return <Named {...asked} />;
  return (
    <Labelled label={question.label} help="" needed={false} mistakes={[]}>
      {(aria) => <Texts aria={aria} holds={question.holds} value={answers[question.key] ?? question.usual} onChange={(to) => onAnswer({ [question.key]: typeof to === "string" ? to : "" })} />}
    </Labelled>
  );
}

/** The questions of a starter; answered, it is a rule. */
export function AskStarter({ starter, onRule }: { starter: Starter; onRule: (draft: Schemas["Draft"]) => void }) {
  const usual = Object.fromEntries(starter.ask.filter(({ usual: said }) => said !== "").map(({ key, usual: said }) => [key, said]));
  const [answers, setAnswers] = useState<Answers>(usual);
  const rules = useQuery(rulesQuery);
  const taken = new Set(rules.data?.map(({ name }) => name));
  const make = useMutation({
    mutationFn: () => {
      let name = starter.name;
      for (let number = 2; taken.has(name); number += 1) name = `${starter.name}-${number}`;
      return told(api.POST("/api/v1/starters/{name}", { params: { path: { name: starter.name } }, body: { name, answers } }));
    },
    onSuccess: onRule,
  });
  return (
    <form
      className="panel max-w-3xl"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate();
      }}
    >
      <div className="fields grid gap-5 px-5 py-4">
        <div>
          <h2 className="text-lg font-semibold">{starter.title}</h2>
          <p className="quiet">{starter.about}</p>
        </div>
        {starter.ask.map((question) => (
          <One key={question.key} question={question} answers={answers} onAnswer={(change) => setAnswers((before) => ({ ...before, ...change }))} />
        ))}
        {make.error && (
          <p role="alert" className="text-error">
            {make.error.message}
          </p>
        )}
        <p className="flex gap-3">
          <button type="submit" className="btn btn-primary" disabled={make.isPending || rules.isPending}>
            Go on
          </button>
          <Link to="/rules/new" className="btn btn-ghost">
            Another one
          </Link>
        </p>
      </div>
    </form>
  );
}
