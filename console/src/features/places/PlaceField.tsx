import { Hidden } from "../../shared/form/Hidden";
import { Labelled } from "../../shared/form/Labelled";
import { Chosen, Flag, Several, Texts, Whole } from "../../shared/form/inputs";
import type { Field } from "../../shared/form/schema";
import { type Value, texts } from "../../shared/form/values";

interface Props {
  field: Field;
  value: Value;
  needed: boolean;
  onChange: (value: Value) => void;
}

const word = (value: unknown): string => (typeof value === "string" || typeof value === "number" ? String(value) : "");

/** The field for a key of a place that is being added; a secret is typed here, and only its name is in the book. */
export function PlaceField({ field, value, needed, onChange }: Props) {
  const { shape, label, usual } = field;
  const said = word(usual);
  const help = said === "" ? field.help : `${field.help} ${said} if left empty.`;
  const shown = { label, needed, mistakes: [] };
  switch (shape.is) {
    case "flag":
      return <Flag label={label} help={field.help} isOn={(value ?? usual ?? false) === true} onChange={onChange} />;
    case "choice": {
      const chosen = shape.choices.find((choice) => choice.value === (word(value) || said));
      return (
        <Labelled {...shown} help={chosen?.about || field.help}>
          {(aria) => <Chosen aria={aria} choices={shape.choices} usual={said} value={word(value)} onChange={onChange} />}
        </Labelled>
      );
    }
    case "number":
      return (
        <Labelled {...shown} help={help}>
          {(aria) => <Whole aria={aria} value={value} onChange={onChange} />}
        </Labelled>
      );
    case "secret":
      return (
        <Labelled {...shown} help={`${field.help} It is sealed in the vault and never shown again.`}>
          {(aria) => <Hidden aria={aria} lines={shape.lines} value={word(value)} onChange={onChange} />}
        </Labelled>
      );
    case "texts":
      return (
        <Labelled {...shown} help={`${field.help} One a line.`}>
          {(aria) => <Several aria={aria} texts={texts(value)} onChange={onChange} />}
        </Labelled>
      );
    case "text":
      return (
        <Labelled {...shown} help={help}>
          {(aria) => <Texts aria={aria} holds={shape.holds} value={word(value)} onChange={onChange} />}
        </Labelled>
      );
    default:
      // Tables are said in the form of the place, once it is there.
      return null;
  }
}
