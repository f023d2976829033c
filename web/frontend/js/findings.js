// What keeps areas from closing: a list beside the Board, each finding under a magnifier, mended singly or together.

import { shape } from "./board.js";

const LENS_PX = 172;
const WIDEST_PX = 26;

/**
 * @param {{ board: import("./board.js").Board, drawing: any, command: (name: string, args: any) => Promise<any>,
 *   choose: (ids: any) => void, beside: (width: number) => void, release: () => void, explain: (id: string) => void, unit: string }} hooks
 */
export function createFindings({ board, drawing, command, choose, beside, release, explain, unit }) {
  const panel = document.getElementById("findings");
  const list = panel.querySelector("ul");
  const count = panel.querySelector(".count");
  const form = panel.querySelector("form");
  const below = /** @type {HTMLInputElement} */ (form.querySelector("input"));
  const lens = board.element.appendChild(shape("svg", { class: "lens", width: LENS_PX, height: LENS_PX }));
  lens.style.display = "none";

  /** The drawing around a finding, large, beside the place itself. @param {any} finding */
  function magnify(finding) {
    const [x, y] = finding.place;
    const half = Math.max(finding.size * 1.6, WIDEST_PX / board.view.zoom / 4);
    lens.setAttribute("viewBox", `${x - half} ${-y - half} ${2 * half} ${2 * half}`);
    const turned = shape("g", { transform: "scale(1 -1)" });
    for (const curve of drawing.data.shapes.curves) turned.append(shape("path", { class: "curve", d: curve.d }));
    const near = drawing.data.shapes.points.filter(
      (point) => point.role === "end" && Math.hypot(point.x - x, point.y - y) < 1.5 * half,
    );
    for (const point of near)
      turned.append(shape("circle", { class: "end free", cx: point.x, cy: point.y, r: half / 26 }));
    lens.replaceChildren(turned);
    const [u, v] = board.toScreen(finding.place);
    const right = u + 30 + LENS_PX < board.size[0] - board.beside;
    lens.style.left = `${Math.max(30, right ? u + 54 : u - LENS_PX - 6)}px`;
    lens.style.top = `${Math.min(Math.max(30, v - LENS_PX - 4), board.size[1] - LENS_PX - 8)}px`;
    lens.style.display = "";
    choose(finding.of);
  }

  function hide() {
    lens.style.display = "none";
  }

  function row(finding) {
    const item = document.createElement("li");
    const words = Object.assign(document.createElement("span"), { textContent: finding.sentence });
    const button = Object.assign(document.createElement("button"), { type: "button", className: "btn alt small" });
    item.append(words, button);
    if (finding.code === "conflict") button.textContent = "What clashes?";
    else button.textContent = finding.remedy || "Show";
    button.addEventListener("click", () => {
      hide();
      if (finding.code === "conflict") return explain(finding.of[0]);
      if (finding.remedy) return command("sketch.mend", { of: finding.of });
      const [x, y] = finding.place;
      const reach = (WIDEST_PX * 4) / board.view.zoom / 8;
      board.fit([x - reach, y - reach, x + reach, y + reach], 0.3);
    });
    const show = () => {
      item.classList.add("shown");
      magnify(finding);
    };
    const leave = () => {
      item.classList.remove("shown");
      hide();
    };
    item.addEventListener("pointerenter", show);
    item.addEventListener("pointerleave", leave);
    button.addEventListener("focus", show);
    button.addEventListener("blur", leave);
    return item;
  }

  function draw() {
    const findings = drawing.data.findings;
    hide();
    list.replaceChildren(...findings.map(row));
    count.textContent = findings.length ? `${findings.length}` : "none";
    panel.querySelector("p").textContent = findings.length
      ? "What keeps areas from closing. Pointing at one shows it large."
      : "Nothing keeps the areas from closing.";
    const most = Math.max(0, ...findings.filter((one) => one.remedy).map((one) => one.size));
    form.hidden = !findings.some((one) => one.remedy);
    if (document.activeElement !== below)
      below.value = unit === "in" ? `${(most / 25.4 + 0.0005).toFixed(3)} in` : `${(most + 0.005).toFixed(2)} mm`;
  }

  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    await command("sketch.mend", { below: below.value, unit });
  });
  panel.querySelector("[data-done]").addEventListener("click", release);

  return {
    open() {
      panel.hidden = false;
      beside(panel.offsetWidth);
      draw();
    },
    /** The sketch is another. */
    changed() {
      if (!panel.hidden) draw();
    },
    close() {
      if (panel.hidden) return;
      panel.hidden = true;
      hide();
      beside(0);
    },
  };
}
