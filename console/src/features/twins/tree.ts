import type { Line } from "./queries";

/** A folder of a plan, with what would happen in it. */
export interface Folder {
  path: string;
  name: string;
  folders: Folder[];
  lines: Line[];
  /** The line about the folder itself. */
  own: Line | undefined;
}

/** A row of the list: a folder or a line in one. */
export type Row = { depth: number; path: string } & ({ folder: Folder } | { line: Line });

const isLeft = (line: Line): boolean => line.does === "leave";

/** What does something to a file or asks about one. */
export const counts = (line: Line): boolean => !isLeft(line) && line.does !== "make-folder" && line.does !== "remove-folder";

/** The plan as a tree of folders. */
export function treeOf(lines: Line[]): Folder {
  const root: Folder = { path: "", name: "", folders: [], lines: [], own: undefined };
  const known = new Map<string, Folder>([["", root]]);
  const folderAt = (path: string): Folder => {
    const there = known.get(path);
    if (there) return there;
    const slash = path.lastIndexOf("/");
    const above = folderAt(slash < 0 ? "" : path.slice(0, slash));
    const folder: Folder = { path, name: path.slice(slash + 1), folders: [], lines: [], own: undefined };
    above.folders.push(folder);
    known.set(path, folder);
    return folder;
  };
  for (const line of lines) {
    if (line.folder) folderAt(line.near).own = line;
    else folderAt(line.near.slice(0, Math.max(0, line.near.lastIndexOf("/")))).lines.push(line);
  }
  return root;
}

/** Every line in a folder and below it. */
export function below(folder: Folder): Line[] {
  const own = folder.own ? [folder.own] : [];
  return [...own, ...folder.lines, ...folder.folders.flatMap(below)];
}

/** The rows that are seen: what lies in a folded folder is not. */
export function rowsOf(folder: Folder, isOpen: (path: string) => boolean, depth = 0): Row[] {
  const folders = folder.folders.flatMap((one): Row[] => [{ depth, path: one.path, folder: one }, ...(isOpen(one.path) ? rowsOf(one, isOpen, depth + 1) : [])]);
  return [...folders, ...folder.lines.map((line): Row => ({ depth, path: line.near, line }))];
}

/** Bytes that travel. */
export function travels(line: Line): number {
  if (line.does !== "make" && line.does !== "replace") return 0;
  return (line.on === "far" ? line.here : line.there)?.size ?? 0;
}

/** Whether a path is left out, or lies in a folder that is. */
export const isWithout = (without: ReadonlySet<string>, path: string): boolean => {
  for (let at = path; at !== ""; at = at.slice(0, Math.max(0, at.lastIndexOf("/")))) if (without.has(at)) return true;
  return false;
};

const DID: Record<string, string> = { make: "copied", replace: "replaced", delete: "deleted", rename: "renamed", "keep-both": "kept both of", ask: "asked about" };

/** What lines come to, in words: `2 copied, 1 deleted`. */
export function sum(lines: Line[]): string {
  const words = Object.entries(DID).flatMap(([does, word]) => {
    const count = lines.filter((line) => line.does === does).length;
    return count ? [`${count} ${word}`] : [];
  });
  return words.join(", ") || "nothing";
}

/** A path as a pattern of the book that means just it, and what lies below. */
export function patternOf(path: string): string {
  return `/${path.replace(/[*?[\]{}\\]/g, (one) => (one === "\\" ? "\\\\" : `[${one}]`))}`;
}
