import type { ReactNode } from "react";

import { type Role, useMay } from "../api/me";

/** What only those see who may use it. */
export function May({ as: role, children }: { as: Role; children: ReactNode }) {
  return useMay(role) ? <>{children}</> : null;
}
