// The Release stage: each file at the press of its button, and what the files allow for.

import { fetchFile, written } from "./files.js";
import { startPlain } from "./resting.js";
import { command, mayChange, say, send, unit } from "./talk.js";

let allowing = false;
startPlain(() => allowing);

for (const button of document.querySelectorAll("[data-file]"))
  button.addEventListener("click", async () => {
    const kind = button.dataset.file;
    const chord = /** @type {HTMLInputElement | null} */ (document.querySelector(`[data-chord="${kind}"]`));
    button.disabled = true;
    await fetchFile(`the ${kind.toUpperCase()} file`, { kind, chord: chord?.value ?? "" });
    button.disabled = false;
  });

const form = /** @type {HTMLFormElement} */ (document.getElementById("allowances"));
const told = /** @type {HTMLElement} */ (document.getElementById("allowed"));

/** What the files have otherwise than the design, in words. */
async function tellChanges() {
  const { work, told: words } = await send("release/allowed", {});
  if (work && ["waiting", "running"].includes(work.status)) return void setTimeout(tellChanges, 100);
  told.textContent =
    work?.problem ||
    (words.length
      ? `${words.join(" ")} The design keeps its sizes.`
      : "Nothing: the files have the sizes of the design.");
}

form.addEventListener("submit", (event) => event.preventDefault());
form.addEventListener("keydown", (event) => {
  if (event.key === "Enter") /** @type {HTMLElement} */ (event.target).blur();
});
form.addEventListener("change", async ({ target }) => {
  const field = /** @type {HTMLInputElement} */ (target);
  allowing = true;
  const done = await command("release.allow", { name: field.name, text: field.value, unit });
  if (done) field.dataset.was = field.value;
  else field.value = field.dataset.was ?? "";
  allowing = false;
  tellChanges();
});
for (const field of form.querySelectorAll("input")) field.disabled = !mayChange;
tellChanges();

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
