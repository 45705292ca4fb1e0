import type { Editor } from "./useEditor";

/** A section as the book has it; its mistakes are told while it is typed. */
export function AsText({ editor, kind }: { editor: Editor; kind: string }) {
  const { text, draft } = editor;
  return (
    <div className="grid gap-3">
      <label className="grid gap-1">
        <span className="sr-only">The {kind} as text</span>
        <textarea
          className="textarea file w-full leading-snug"
          spellCheck={false}
          rows={Math.min(28, Math.max(10, text.split("\n").length + 1))}
          value={text}
          onChange={(event) => editor.setTyped(event.target.value)}
        />
      </label>
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
