/** Roles in Aerie, in the order of the documentation. */
export const ROLES = ["administrator", "policy-author", "approver", "auditor", "technician"] as const;
