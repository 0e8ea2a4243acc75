/** What roles may do. */

import type { EntryAction, Role } from "./types";

/** Roles of people; each may do what those below may. */
const RANKS: Partial<Record<Role, number>> = { viewer: 1, operator: 2, admin: 3 };

/** Whether a role may do what is for another. */
export const mayDo = (role: Role | null | undefined, wanted: Role) =>
  (role ? (RANKS[role] ?? 0) : 0) >= (RANKS[wanted] ?? Number.POSITIVE_INFINITY);

/** Whether a role may do this to entries: what destroys something is for admins. */
export const mayAct = (role: Role | null | undefined, action: EntryAction) =>
  mayDo(role, action === "delete" || action === "unload" ? "admin" : "operator");
