// The Release stage: each file at the press of its button, and what the files allow for.

import { cutAgain, startCutter } from "./cutting.js";
import { fetchFile, written } from "./files.js";
import { readAgain, startGauge } from "./gauging.js";
import { printAgain, startPrinter } from "./printing.js";
import { startPlain } from "./resting.js";
import { command, isOpen, mayChange, say, send, unit } from "./talk.js";

const AGAIN_MS = 100;
let own = false;
startPlain(() => own);

for (const button of document.querySelectorAll("[data-file]"))
  button.addEventListener("click", async () => {
    const kind = button.dataset.file;
    const chord = /** @type {HTMLInputElement | null} */ (document.querySelector(`[data-chord="${kind}"]`));
    button.disabled = true;
    await fetchFile(`the ${kind.toUpperCase()} file`, { kind, chord: chord?.value ?? "" });
    button.disabled = false;
  });

/** A sentence of numbers of which each change is a command. @param {string} id @param {string} name @param {() => void} then */
function sentenceOf(id, name, then) {
  const form = /** @type {HTMLFormElement} */ (document.getElementById(id));
  form.addEventListener("submit", (event) => event.preventDefault());
  form.addEventListener("keydown", (event) => {
    if (event.key === "Enter") /** @type {HTMLElement} */ (event.target).blur();
  });
  form.addEventListener("change", async ({ target }) => {
    const field = /** @type {HTMLInputElement} */ (target);
    own = true;
    const done = await command(name, { name: field.name, text: field.value, unit });
    if (done) field.dataset.was = field.value;
    else field.value = field.dataset.was ?? "";
    own = false;
    then();
  });
  for (const field of form.querySelectorAll("input")) field.disabled = !mayChange;
}

const told = /** @type {HTMLElement} */ (document.getElementById("allowed"));

/** What the files have otherwise than the design, in words. */
async function tellChanges() {
  const { work, told: words } = await send("release/allowed", {});
  if (isOpen(work)) return void setTimeout(tellChanges, AGAIN_MS);
  told.textContent =
    work?.problem ||
    (words.length
      ? `${words.join(" ")} The design keeps its sizes.`
      : "Nothing: the files have the sizes of the design.");
}

/** What hangs on the allowances is told anew. */
function allowedAgain() {
  tellChanges();
  printAgain();
  cutAgain();
  readAgain();
}

/** An allowance that a device proposes, in the unit of the page. @param {string} name @param {string} text */
async function setAllowance(name, text) {
  own = true;
  const done = await command("release.allow", { name, text, unit });
  own = false;
  if (!done) return;
  const field = /** @type {HTMLInputElement} */ (document.querySelector(`#allowances [name="${name}"]`));
  field.value = field.dataset.was = text;
  allowedAgain();
}

startPrinter();
startCutter(setAllowance);
startGauge(setAllowance);
sentenceOf("allowances", "release.allow", allowedAgain);
sentenceOf("printer", "release.printer", printAgain);
sentenceOf("cutter", "release.cutter", () => {
  cutAgain();
  readAgain();
});

const flat = /** @type {HTMLFormElement} */ (document.getElementById("flat"));
flat.addEventListener("submit", (event) => event.preventDefault());
flat.addEventListener("change", async () => {
  const [of, at] = ["of", "at"].map((name) => /** @type {HTMLInputElement} */ (flat.elements.namedItem(name)));
  own = true;
  if (await command("release.flat", { of: of.value, at: at.value, unit })) at.dataset.was = at.value;
  else at.value = at.dataset.was ?? "";
  own = false;
  /** @type {HTMLElement} */ (flat.querySelector("[data-at]")).hidden = of.value === "outline";
  cutAgain();
});
for (const field of flat.querySelectorAll("input, select"))
  /** @type {HTMLInputElement} */ (field).disabled = !mayChange;

allowedAgain();

document.getElementById("keep")?.addEventListener("click", async ({ target }) => {
  const button = /** @type {HTMLButtonElement} */ (target);
  const chord = /** @type {HTMLInputElement} */ (document.querySelector('[data-chord="zip"]')).value;
  button.disabled = true;
  try {
    const work = await written("all files", { kind: "zip", chord });
    if (work.status !== "done") return;
    await send("release/keep", { chord });
    location.reload();
  } catch (problem) {
    say(problem.message, true);
  } finally {
    button.disabled = false;
  }
});

// A press before this would be lost.
for (const button of /** @type {NodeListOf<HTMLButtonElement>} */ (document.querySelectorAll("[data-file], #keep")))
  button.disabled = false;
