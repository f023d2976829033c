// Talking with the server: reading, commands with the version of the page, and what it says back.

const page = document.querySelector(".page[data-job]");

/** Address below this job. @param {string} rest */
export const address = (rest) => page.dataset.job + rest;
export const stage = page?.dataset.stage ?? "";
export const unit = page?.dataset.unit ?? "mm";
export const mayChange = page?.dataset.canChange === "yes";
export const version = () => Number(page.dataset.version);

/** Keep the version that the page shows. @param {number} value */
export function setVersion(value) {
  page.dataset.version = String(value);
}

let shown = null;
/** Keep the version that the Board shows, so that answers need tell only the difference. @param {number} value */
export function setShown(value) {
  shown = value;
}

const csrf = document.body.dataset.csrf;

/** A refusal in words. */
export class Refused extends Error {
  /** @param {string} sentence @param {number} status @param {any} answer */
  constructor(sentence, status, answer) {
    super(sentence);
    this.status = status;
    this.answer = answer;
  }
}

async function read(response) {
  const answer = response.headers.get("Content-Type")?.includes("json") ? await response.json() : {};
  if (response.ok) return answer;
  throw new Refused(
    answer.problem ?? "The server did not answer as expected; load the page again.",
    response.status,
    answer,
  );
}

async function reach(rest, options) {
  try {
    return await fetch(address(rest), {
      ...options,
      headers: { Accept: "application/json", "X-CSRFToken": csrf, ...options?.headers },
    });
  } catch {
    throw new Refused("The server cannot be reached; nothing was changed. Try again in a moment.", 0, {});
  }
}

/** @param {string} rest */
export const ask = async (rest) => read(await reach(rest));

/** @param {string} rest @param {any} body */
export const send = async (rest, body) =>
  read(
    await reach(rest, { method: "POST", body: JSON.stringify(body), headers: { "Content-Type": "application/json" } }),
  );

/** Send a file. @param {string} rest @param {FormData} body */
export const upload = async (rest, body) => read(await reach(rest, { method: "POST", body }));

/** Go to the Sketch stage with a sketch open. @param {string} id */
export const openSketch = (id) =>
  send("sketch/open", { sketch: id }).then(
    () => window.location.assign(address("sketch")),
    (problem) => say(problem.message, true),
  );

/**
 * Show a sentence on the Board, and what can be done about it; "" takes it away.
 * @param {string} sentence @param {boolean} [bad] @param {{ words: string, run: () => any }[]} [choices]
 */
export function say(sentence, bad = false, choices = []) {
  const box = document.getElementById("said");
  if (!box) return;
  box.hidden = !sentence;
  box.classList.toggle("bad", bad);
  box.querySelector("span").textContent = sentence;
  box.querySelector(".choices").replaceChildren(
    ...choices.map(({ words, run }) => {
      const button = Object.assign(document.createElement("button"), { type: "button", textContent: words });
      button.addEventListener("click", () => {
        say("");
        run();
      });
      return button;
    }),
  );
}

document.querySelector("#said [data-close]")?.addEventListener("click", () => say(""));

/** Tell every part of the page that the job has changed. @param {any} detail */
export const announce = (detail) => document.body.dispatchEvent(new CustomEvent("nomogon:now", { detail }));

function settle(answer) {
  setVersion(answer.version);
  say(answer.note ?? "");
  announce(answer);
  return answer;
}

/** What could be done about a conflict: drop one of the others, or keep the new one unmet. */
function waysOut(name, args, choices) {
  if (!choices) return [];
  const ways = choices.map((one) => ({
    words: `Drop ${one.words}`,
    run: () => command(name, { ...args, instead_of: one.id }),
  }));
  return [...ways, { words: "Keep it unmet for now", run: () => command(name, { ...args, disputed: true }) }];
}

function refuse(problem, name, args) {
  say(problem.message, true, waysOut(name, args, problem.answer?.choices));
  if (problem.status === 409) {
    setVersion(problem.answer.version);
    announce({ version: problem.answer.version, stale: true });
  }
  return null;
}

/** @type {Promise<any>} */
let queue = Promise.resolve();

/** Carry out a command; commands of one page run one after the other. Null when it was refused. @param {string} name @param {any} args */
export function command(name, args) {
  const run = () =>
    send(`do/${name}`, { version: version(), arguments: args, stage, shown }).then(settle, (problem) =>
      refuse(problem, name, args),
    );
  queue = queue.then(run, run);
  return queue;
}

/** @param {"undo"|"redo"} way */
export function history(way) {
  const run = () => send(way, { version: version(), stage, shown }).then(settle, (problem) => refuse(problem, "", {}));
  queue = queue.then(run, run);
  return queue;
}

/** Whether a worker is not done with some work yet. @param {any} work */
export const isOpen = (work) => ["waiting", "running"].includes(work?.status);
