import { type KeyboardEvent, useLayoutEffect, useRef, useState } from "react";

import { Insert } from "./Insert";
import type { Aria } from "./Labelled";
import { pieces } from "./template";
import { useKnown, useSample } from "./world";

interface Props {
  aria: Aria;
  label: string;
  name: string;
  lines: boolean;
  value: string;
  onChange: (value: string) => void;
}

// The text of what stands in the field: chips by what they stand for.
function read(field: HTMLElement): string {
  let text = "";
  for (const node of field.childNodes) {
    if (node instanceof HTMLElement && node.dataset.raw !== undefined) text += node.dataset.raw;
    else if (node instanceof HTMLBRElement) text += "\n";
    else if (node instanceof HTMLElement) text += `${text === "" ? "" : "\n"}${read(node)}`;
    else text += node.textContent ?? "";
  }
  // A space at the end of a line is kept by browsers as one that does not break.
  return text.replaceAll("\u00a0", " ");
}

/** A text in which placeholders are chips: one character to the keyboard, each with a plain name. */
export function ChipText({ aria, label, name, lines, value, onChange }: Props) {
  const known = useKnown(name);
  const sample = useSample(name);
  const field = useRef<HTMLDivElement>(null);
  /** How much of the text stands before the caret; all of it until somebody was there. */
  const caret = useRef<number>(undefined);
  const [isRaw, setRaw] = useState(false);
  const [isOpen, setOpen] = useState(false);

  const draw = (text: string) => {
    if (!field.current) return;
    const nodes = pieces(text, known).map(({ raw, title }) => {
      if (title === undefined) return document.createTextNode(raw);
      const chip = document.createElement("span");
      chip.className = "chip";
      chip.contentEditable = "false";
      chip.dataset.raw = raw;
      chip.title = raw;
      chip.textContent = title;
      return chip;
    });
    field.current.replaceChildren(...nodes);
  };
  const titles = known.map(({ word }) => word).join(" ");
  useLayoutEffect(() => {
    // What is being typed is not drawn anew under the caret.
    if (field.current && (read(field.current) !== value || document.activeElement !== field.current)) draw(value);
    // oxlint-disable-next-line react-hooks/exhaustive-deps -- `draw` changes with the names alone
  }, [value, titles, isRaw]);

  const remember = () => {
    const selection = getSelection();
    if (!field.current || !selection || selection.rangeCount === 0 || !field.current.contains(selection.anchorNode)) return;
    const before = document.createRange();
    before.setStart(field.current, 0);
    before.setEnd(selection.getRangeAt(0).endContainer, selection.getRangeAt(0).endOffset);
    const copy = document.createElement("div");
    copy.append(before.cloneContents());
    caret.current = read(copy).length;
  };
  const insert = (raw: string) => {
    setOpen(false);
    const at = Math.min(caret.current ?? value.length, value.length);
    const text = `${value.slice(0, at)}${raw}${value.slice(at)}`;
    onChange(text);
    const into = field.current;
    if (isRaw || !into) return;
    draw(text);
    into.focus();
    caret.current = at + raw.length;
    let passed = 0;
    for (const [number, node] of [...into.childNodes].entries()) {
      passed += node instanceof HTMLElement ? (node.dataset.raw ?? "").length : (node.textContent ?? "").length;
      if (passed === caret.current) getSelection()?.collapse(into, number + 1);
    }
  };
  const keys = (event: KeyboardEvent) => {
    if (event.ctrlKey && event.key === " ") {
      event.preventDefault();
      remember();
      setOpen(true);
    } else if (event.ctrlKey && event.key === "e") {
      event.preventDefault();
      setRaw(!isRaw);
    } else if (event.key === "Enter" && !lines && !isRaw) event.preventDefault();
  };
  const drawn = { ...aria, "aria-label": label, spellCheck: false, onKeyDown: keys };
  return (
    <div className="grid gap-1">
      <div className="relative flex items-start gap-2">
        {isRaw ? (
          <textarea {...drawn} className="textarea file min-w-0 flex-1" rows={lines ? 4 : 1} value={value} onChange={(event) => onChange(event.target.value)} />
        ) : (
          <div className="min-w-0 flex-1">
            <div
              id={aria.id}
              ref={field}
              // oxlint-disable-next-line jsx-a11y/prefer-tag-over-role -- chips stand in it, which no input can hold
              role="textbox"
              tabIndex={0}
              aria-label={label}
              aria-multiline={lines}
              aria-describedby={aria["aria-describedby"]}
              aria-invalid={aria["aria-invalid"]}
              contentEditable
              suppressContentEditableWarning
              spellCheck={false}
              className={`chips file ${lines ? "min-h-20 whitespace-pre-wrap" : ""}`}
              onInput={(event) => onChange(lines ? read(event.currentTarget) : read(event.currentTarget).replaceAll("\n", ""))}
              onPaste={(event) => {
                event.preventDefault();
                // What is pasted comes as plain text, and goes where a browser's own undo finds it.
                document.execCommand("insertText", false, event.clipboardData.getData("text/plain"));
              }}
              onKeyDown={keys}
              onKeyUp={remember}
              onMouseUp={remember}
              onBlur={() => draw(value)}
            />
          </div>
        )}
        <button type="button" className="btn btn-ghost btn-sm mt-1" aria-expanded={isOpen} aria-label={`Insert into ${label}`} title="Ctrl+Space; Ctrl+E shows the text behind it" onMouseDown={remember} onClick={() => setOpen(!isOpen)}>
          insert
        </button>
        {isOpen && (
          <Insert
            known={known}
            onPick={insert}
            onClose={() => {
              setOpen(false);
              field.current?.focus();
            }}
          />
        )}
      </div>
      {sample && <p className="file text-sm [overflow-wrap:anywhere]">{sample.text === null || sample.text === undefined ? <span className="quiet">→ known when the rule runs</span> : `→ ${sample.text || "the root"}`}</p>}
    </div>
  );
}
