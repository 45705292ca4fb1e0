import { ROLES, ROLE_WORDS, type Role } from "../../shared/api/me";

/** Chooses a role. */
export function RolePick({ role, most = "owner", onRole }: { role: Role; most?: Role; onRole: (role: Role) => void }) {
  const offered = ROLES.slice(0, ROLES.indexOf(most) + 1);
  return (
    <label className="grid gap-1">
      <span className="font-semibold">Role</span>
      <select className="select w-full" value={role} onChange={(event) => onRole(offered.find((one) => one === event.target.value) ?? "viewer")}>
        {offered.map((one) => (
          <option key={one} value={one}>
            {one}: {ROLE_WORDS[one]}
          </option>
        ))}
      </select>
    </label>
  );
}
