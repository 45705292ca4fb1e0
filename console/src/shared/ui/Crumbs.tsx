import type { ReactNode } from "react";
import { Link } from "react-router";

/** Where a page stands: the page above it, and itself. */
export function Crumbs({ to, above, here }: { to: string; above: string; here: ReactNode }) {
  return (
    <p className="quiet text-sm">
      <Link to={to} className="plain">
        {above}
      </Link>{" "}
      / {here}
    </p>
  );
}
