// What the picture says about what was meant: proposals beside the Board, shown on it, taken together or singly.

const FAR_SIGMAS = 10;

/**
 * @param {{ ask: (path: string) => Promise<any>, command: (name: string, args: any) => Promise<any>,
 *   choose: (ids: any) => void, outline: (paths: string[]) => void, beside: (width: number) => void,
 *   say: (text: string, bad?: boolean) => void, release: () => void }} hooks
 */
export function createMeant({ ask, command, choose, outline, beside, say, release }) {
  const panel = document.getElementById("meant");
  const list = panel.querySelector("ul");
  const count = panel.querySelector(".count");
  const take = /** @type {HTMLButtonElement} */ (panel.querySelector("[data-take]"));
  let proposals = [];
  let ticked = new Set();

  function draw() {
    list.replaceChildren(
      ...proposals.map((one, index) => {
        const item = document.createElement("li");
        const label = document.createElement("label");
        const box = Object.assign(document.createElement("input"), { type: "checkbox", checked: ticked.has(index) });
        box.addEventListener("change", () => {
          box.checked ? ticked.add(index) : ticked.delete(index);
          told();
        });
        const words = Object.assign(document.createElement("span"), { textContent: one.words });
        const far = Object.assign(document.createElement("span"), {
          className: "far",
          textContent: one.sigmas < FAR_SIGMAS ? `${one.sigmas.toFixed(1)} σ` : "",
          title: "How far off it is, in standard deviations of the trace",
        });
        label.append(box, words, far);
        item.append(label);
        const show = () => {
          choose(one.of);
          outline(one.line.length ? [`M${one.line.map((place) => place.join(" ")).join("L")}`] : []);
          item.classList.add("shown");
        };
        const hide = () => {
          item.classList.remove("shown");
          outline([]);
        };
        item.addEventListener("pointerenter", show);
        item.addEventListener("pointerleave", hide);
        box.addEventListener("focus", show);
        box.addEventListener("blur", hide);
        return item;
      }),
    );
    told();
  }

  function told() {
    count.textContent = proposals.length === 1 ? "1 proposal" : `${proposals.length} proposals`;
    take.textContent = ticked.size === 1 ? "Take this one" : `Take these ${ticked.size}`;
    take.disabled = !ticked.size;
  }

  take.addEventListener("click", async () => {
    const chosen = proposals.filter((_, index) => ticked.has(index));
    outline([]);
    for (const one of chosen.filter((one) => one.command)) {
      if (!(await command(one.command, one.arguments))) return;
    }
    const groups = chosen.filter((one) => !one.command).map((one) => one.constraints);
    if (groups.length && !(await command("sketch.accept", { proposals: groups }))) return;
    choose([]);
    await load();
  });
  panel.querySelector("[data-none]").addEventListener("click", release);

  async function load() {
    const found = await ask("sketch/meant").catch((problem) => say(problem.message, true));
    if (!found) return release();
    proposals = found.proposals;
    ticked = new Set(proposals.flatMap((one, index) => (one.sure ? [index] : [])));
    panel.hidden = false;
    beside(panel.offsetWidth);
    draw();
    if (!proposals.length) {
      release();
      say("The picture says nothing more about what was meant: all that its edges show to be so is set.");
    }
  }

  return {
    open: load,
    close() {
      if (panel.hidden) return;
      panel.hidden = true;
      proposals = [];
      beside(0);
    },
    get isOpen() {
      return !panel.hidden;
    },
  };
}
