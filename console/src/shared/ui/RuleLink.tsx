import { Link } from "react-router";

/** A rule's title that leads to its page; what was done by hand has none. */
export function RuleLink({ rule, title }: { rule: string; title: string }) {
  if (rule === "by-hand") return <span>{title}</span>;
  return (
    <Link to={`/rules/${rule}`} className="plain">
      {title}
    </Link>
  );
}
