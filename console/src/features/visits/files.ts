import type { Visit } from "../../api/client";

/** A file that was given in a visit. */
export type VisitFile = Visit["files"] extends (infer F)[] | undefined ? F : never;

/** Bytes of one file at most. */
export const LARGEST_FILE = 16 << 20;
