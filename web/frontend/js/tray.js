// The Tray: tools as words with a number key; [ and ] turn it over, Esc drops the tool. It is inert until it listens.

const prompt = document.getElementById("prompt");

/** Say what the next click does. @param {string} sentence */
export const tell = (sentence) => {
  prompt.textContent = sentence;
};

/** @param {{ take: (name: string) => void, drop: () => void, resting: string }} hooks */
export function startTray({ take, drop, resting }) {
  const turns = [...document.querySelectorAll("[data-turn]")];
  let current = "";

  const tools = () => [...document.querySelectorAll(".tool")];
  const shown = () => [...document.querySelector("[data-tools]:not([hidden])").querySelectorAll(".tool")];

  function turnTo(name) {
    for (const turn of turns) turn.setAttribute("aria-selected", String(turn.dataset.turn === name));
    for (const group of document.querySelectorAll("[data-tools]")) group.hidden = group.dataset.tools !== name;
  }

  function turnBy(step) {
    const at = turns.findIndex((turn) => turn.getAttribute("aria-selected") === "true");
    turnTo(turns[(at + step + turns.length) % turns.length].dataset.turn);
  }

  function press(name) {
    current = name;
    for (const tool of tools()) tool.setAttribute("aria-pressed", String(tool.dataset.tool === name));
  }

  function choose(name) {
    const tool = tools().find((one) => one.dataset.tool === name);
    if (!tool || tool.disabled) return;
    turnTo(tool.closest("[data-tools]").dataset.tools);
    press(name);
    tell(tool.dataset.prompt || resting);
    take(name);
  }

  function release() {
    press("");
    tell(resting);
    drop();
  }

  /** Let go of a tool that has done its work, unless another was taken while it worked. @param {string} tool */
  function finish(tool) {
    if (current === tool) release();
  }

  for (const turn of turns) turn.addEventListener("click", () => turnTo(turn.dataset.turn));
  document.getElementById("tray").addEventListener("click", (event) => {
    const tool = event.target.closest(".tool");
    if (tool) tool.dataset.tool === current ? release() : choose(tool.dataset.tool);
  });
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Escape") return release();
    if (event.target.matches("input:not([type=checkbox], [type=range], [type=file]), textarea, select")) return;
    if (event.key === "[") turnBy(-1);
    else if (event.key === "]") turnBy(1);
    else if (/^[1-9]$/.test(event.key)) shown()[Number(event.key) - 1]?.click();
  });
  tell(resting);
  document.getElementById("tray").inert = false;
  return { choose, release, finish, current: () => current };
}
