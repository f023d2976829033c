// Is the picture good enough: graduated scales with a pointer, and what to do where it is short.

import { say, send } from "./talk.js";
import { shape } from "./board.js";

const card = document.getElementById("quality");
const list = card.querySelector("[data-measures]");
const WIDTH = 250;

function graduated({ share, state }) {
  const svg = shape("svg", { width: WIDTH, height: 20, "aria-hidden": "true", class: `graduated ${state}` });
  svg.append(
    shape("path", { d: `M1 14H${WIDTH - 1}`, class: "base" }),
    shape("path", { d: `M${(WIDTH * 2) / 3} 14H${WIDTH - 1}`, class: "good" }),
  );
  for (let index = 0; index <= 12; index++) {
    const x = 1 + (index * (WIDTH - 2)) / 12;
    svg.append(shape("path", { d: `M${x} 14V${index % 4 ? 11 : 8}`, class: "tick" }));
  }
  if (share !== null) svg.append(shape("path", { d: `M${share * WIDTH} 13l-4.5 -10h9z`, class: "needle" }));
  return svg;
}

/** @param {{ tray: any }} parts */
export function startQuality({ tray }) {
  card.querySelector("[data-close]").addEventListener("click", () => tray.release());

  return {
    async open() {
      card.hidden = false;
      list.replaceChildren(Object.assign(document.createElement("p"), { textContent: "Looking …" }));
      const { measures } = await send("reference/quality", {});
      say("");
      list.replaceChildren(
        ...measures.map((measure) => {
          const row = document.createElement("div");
          row.className = `measure ${measure.state}`;
          const head = document.createElement("p");
          head.append(
            Object.assign(document.createElement("span"), { textContent: measure.name }),
            Object.assign(document.createElement("b"), { textContent: measure.shown }),
          );
          row.append(head, graduated(measure));
          if (measure.remedy)
            row.append(
              Object.assign(document.createElement("p"), { className: "remedy", textContent: measure.remedy }),
            );
          return row;
        }),
      );
    },
    close() {
      card.hidden = true;
    },
  };
}
