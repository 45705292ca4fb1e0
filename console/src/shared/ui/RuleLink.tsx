import { Link } from "react-router";

/** A rule's title that leads to its page; what was done by hand has none. */
export function RuleLink({ rule, title }: { rule: string; title: string }) {
  if (rule === "by-hand") return <span>{title}</span>;
  // The passes of a twin run under a name that is made of its own; no rule of the book has it.
  const twin = rule.startsWith("twin-") ? rule.slice("twin-".length) : undefined;
  return (
    <Link to={twin ? `/twins/${twin}` : `/rules/${rule}`} className="plain">
      {title}
    </Link>
  );
}
