import { Suspense, lazy, useMemo } from "react";

import type { Field, Forms } from "../form/schema";
import { useWorld } from "../form/world";
import type { BookWord } from "./CodeText";
import type { Editor } from "./useEditor";

// The page stands before the editor is there; until then the text can be typed in all the same.
const CodeText = lazy(() => import("./CodeText"));

/** Every key that the book knows, and every kind of step. */
function wordsOf(forms: Forms): BookWord[] {
  const found = new Map<string, string>();
  const take = (fields: Field[]) => {
    for (const { key, help, shape } of fields) {
      if (!found.has(key)) found.set(key, help);
      if (shape.is === "group" || shape.is === "groups") take(shape.fields);
    }
  };
  Object.values(forms.sections).forEach(take);
  [...forms.places, ...forms.databases, ...forms.steps].forEach((kind) => take(kind.fields));
  for (const { kind, about } of forms.steps) found.set(kind, about);
  [forms.branch, forms.step, forms.condition].forEach(take);
  return [...found].map(([word, about]) => ({ word, about }));
}

/** A section as the book has it; its mistakes are told while it is typed. */
export function AsText({ editor, kind }: { editor: Editor; kind: string }) {
  const { text, draft } = editor;
  const { forms } = useWorld();
  const words = useMemo(() => wordsOf(forms), [forms]);
  const label = `The ${kind} as text`;
  const plain = (
    <textarea
      aria-label={label}
      className="textarea file w-full leading-snug"
      spellCheck={false}
      rows={Math.min(28, Math.max(10, text.split("\n").length + 1))}
      value={text}
      onChange={(event) => editor.setTyped(event.target.value)}
    />
  );
  return (
    <div className="grid grid-cols-1 gap-3">
      <Suspense fallback={plain}>
        <CodeText label={label} value={text} mistakes={draft.mistakes} words={words} onChange={editor.setTyped} />
      </Suspense>
      {draft.mistakes.length > 0 && (
        <ul role="alert" className="text-error grid gap-1">
          {draft.mistakes.map((mistake) => (
            <li key={`${mistake.pointer} ${mistake.message}`} className="whitespace-pre-wrap">
              line {mistake.line}: {mistake.message}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
