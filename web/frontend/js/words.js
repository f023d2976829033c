// Sentences without a page: what things are called, which parts of a sentence stand, which blanks are empty.

/** How many corners give a plane. */
export const CORNERS = 3;

/**
 * The faces that meet in an edge or a corner, in words: ``top and side of 1``, ``top of 1 and wall of 2``.
 * @param {string} name
 * @param {Record<string, number>} numbers
 */
function facesInWords(name, numbers) {
  const faces = name
    .replace(/ [@#].*$/, "")
    .split(" | ")
    .map((face) => face.match(/^(\w+)\.(\w+)/) ?? [face, "", "face"]);
  const numberOf = (/** @type {string[]} */ [, operation]) => numbers[operation] ?? "?";
  const alone = faces.every((face) => numberOf(face) === numberOf(faces[0]));
  const said = faces.map((face) => (alone ? face[2] : `${face[2]} of ${numberOf(face)}`));
  return `${said.slice(0, -1).join(", ")} and ${said.at(-1)}${alone ? ` of ${numberOf(faces[0])}` : ""}`;
}

/** A face in words: ``side of 1``. @param {string} name @param {Record<string, number>} numbers */
export function faceWords(name, numbers) {
  const [, operation, role] = name.match(/^(\w+)\.(\w+)/) ?? [name, "", "face"];
  return `${role.replaceAll("_", " ")} of ${numbers[operation] ?? "?"}`;
}

/** An edge in words. @param {string} name @param {Record<string, number>} numbers */
export const edgeWords = (name, numbers) => `edge between ${facesInWords(name, numbers)}`;

/** A corner in words. @param {string} name @param {Record<string, number>} numbers */
export const cornerWords = (name, numbers) => `corner of ${facesInWords(name, numbers)}`;

/** Parts that stand in a sentence as its blanks are filled now. @param {any[]} parts @param {Record<string, any>} filled */
export function standing(parts, filled) {
  return parts.flatMap((part) => {
    if (part.values) return part.values.includes(filled[part.when]) ? standing(part.parts, filled) : [];
    if (part.clause) return isEmpty(filled[part.first]) ? [] : standing(part.parts, filled);
    return [part];
  });
}

/** Clauses of a sentence, added or not. @param {any[]} parts @param {Record<string, any>} filled */
export function clauses(parts, filled) {
  return parts.flatMap((part) => {
    if (part.clause) return [part];
    return part.values?.includes(filled[part.when]) ? clauses(part.parts, filled) : [];
  });
}

/** Whether nothing stands in a blank yet. @param {any} value */
export const isEmpty = (value) =>
  value === undefined ||
  value === null ||
  value === "" ||
  (typeof value === "object" && "names" in value && !value.names.length && !value.rule && !value.trace) ||
  value.operations?.length === 0 ||
  value.sections?.length < 2 ||
  (Array.isArray(value) && value.length < CORNERS);
