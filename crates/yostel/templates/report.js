"use strict";
// Everything is in the page already, so that it can be read without this; here it becomes searchable, sortable and movable.
const all = (what, within = document) => Array.from(within.querySelectorAll(what));
const one = (what) => document.querySelector(what);

// Tables: search, filters, and how many rows are left.
for (const tools of all("[data-filters]")) {
  const table = one("#" + tools.dataset.filters);
  const rows = all("tbody tr", table);
  const texts = rows.map((row) => row.textContent.toLowerCase());
  const left = tools.querySelector("output");
  const search = tools.querySelector("input");
  const selects = all("select", tools);
  const show = () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    let count = 0;
    rows.forEach((row, at) => {
      const fits = words.every((word) => texts[at].includes(word))
        && selects.every((select) => !select.value || row.dataset[select.name] === select.value);
      row.hidden = !fits;
      count += fits;
    });
    left.textContent = count + " of " + rows.length;
  };
  search.addEventListener("input", show);
  selects.forEach((select) => select.addEventListener("change", show));
  show();
}

// Columns: each can be sorted by; numbers as numbers.
for (const table of all("table.sortable")) {
  const heads = all("thead th", table);
  heads.forEach((head, column) => head.querySelector("button").addEventListener("click", () => {
    const rising = head.getAttribute("aria-sort") !== "ascending";
    heads.forEach((other) => other.removeAttribute("aria-sort"));
    head.setAttribute("aria-sort", rising ? "ascending" : "descending");
    const body = table.tBodies[0];
    const key = (row) => row.cells[column].dataset.key ?? row.cells[column].textContent;
    const isNumber = head.classList.contains("n");
    const compare = (a, b) => isNumber ? a - b : a.localeCompare(b, "en", { numeric: true });
    const rows = Array.from(body.rows).map((row) => [key(row), row]);
    rows.sort((a, b) => rising ? compare(a[0], b[0]) : compare(b[0], a[0]));
    body.append(...rows.map(([, row]) => row));
  }));
}

// The graph: moved, made larger and smaller, and the ways to and from a package.
const view = one("#graph-view");
const svg = view.querySelector("svg");
const nodes = all("[data-node]", svg);
const lines = all("[data-from]", svg);
const whole = svg.viewBox.baseVal;
const home = { x: whole.x, y: whole.y, width: whole.width, height: whole.height };
const to = (box) => Object.assign(whole, box);
const fit = () => {
  // Text stays readable: of a large graph, its beginning is shown.
  const scale = Math.min(1, view.clientWidth / home.width, view.clientHeight / home.height);
  const shown = Math.max(scale, 0.7);
  const [width, height] = [view.clientWidth / shown, view.clientHeight / shown];
  const first = nodes.length ? nodes[0].querySelector("rect").y.baseVal.value : 0;
  const y = height >= home.height ? (home.height - height) / 2 : Math.min(Math.max(first - height / 2, 0), home.height - height);
  to({ x: width >= home.width ? (home.width - width) / 2 : 0, y, width, height });
};
const zoom = (by, x = whole.x + whole.width / 2, y = whole.y + whole.height / 2) => {
  const width = Math.min(Math.max(whole.width * by, 80), home.width * 8 + 2000);
  const ratio = width / whole.width;
  to({ x: x - (x - whole.x) * ratio, y: y - (y - whole.y) * ratio, width, height: whole.height * ratio });
};
const point = (event) => {
  const edge = svg.getBoundingClientRect();
  return [whole.x + (event.clientX - edge.left) * whole.width / edge.width, whole.y + (event.clientY - edge.top) * whole.height / edge.height];
};
let drag = null;
let dragged = false;
svg.addEventListener("pointerdown", (event) => { drag = [event.clientX, event.clientY]; dragged = false; });
window.addEventListener("pointermove", (event) => {
  if (!drag) return;
  const [dx, dy] = [event.clientX - drag[0], event.clientY - drag[1]];
  if (!dragged && Math.hypot(dx, dy) < 4) return;
  dragged = true;
  drag = [event.clientX, event.clientY];
  to({ x: whole.x - dx * whole.width / view.clientWidth, y: whole.y - dy * whole.height / view.clientHeight, width: whole.width, height: whole.height });
});
window.addEventListener("pointerup", () => { drag = null; });
view.addEventListener("wheel", (event) => {
  if (!event.ctrlKey && !event.metaKey) return;
  event.preventDefault();
  zoom(Math.exp(event.deltaY / 300), ...point(event));
}, { passive: false });

const said = one("#graph-said");
const clear = () => {
  svg.classList.remove("way");
  all(".on", svg).forEach((part) => part.classList.remove("on"));
  nodes.forEach((node) => node.setAttribute("aria-pressed", "false"));
  said.textContent = "";
};
const ends = lines.map((line) => ({ line, from: line.dataset.from, to: line.dataset.to }));
const linesBy = { from: new Map(), to: new Map() };
for (const end of ends) {
  for (const side of ["from", "to"]) {
    if (!linesBy[side].has(end[side])) linesBy[side].set(end[side], []);
    linesBy[side].get(end[side]).push(end);
  }
}
const walk = (start, from, into) => {
  const seen = new Set([start]);
  const open = [start];
  while (open.length) {
    for (const end of linesBy[from].get(open.pop()) ?? []) {
      end.line.classList.add("on");
      if (!seen.has(end[into])) { seen.add(end[into]); open.push(end[into]); }
    }
  }
  return seen;
};
const name = (node) => node.querySelector("text").textContent;
const highlight = (node) => {
  const was = node.getAttribute("aria-pressed") === "true";
  clear();
  if (was) return;
  const number = node.dataset.node;
  const [askers, needed] = [walk(number, "to", "from"), walk(number, "from", "to")];
  nodes.forEach((other) => { if (askers.has(other.dataset.node) || needed.has(other.dataset.node)) other.classList.add("on"); });
  svg.classList.add("way");
  node.setAttribute("aria-pressed", "true");
  said.textContent = name(node) + ": " + (askers.size === 2 ? "1 leads" : askers.size - 1 + " lead") + " to it, and it leads to " + (needed.size - 1) + ".";
};
const bounds = (some) => {
  const boxes = some.map((node) => node.querySelector("rect")).map(({ x, y, width, height }) => [x, y, width, height].map((side) => side.baseVal.value));
  const [left, top] = [Math.min(...boxes.map((box) => box[0])), Math.min(...boxes.map((box) => box[1]))];
  const [right, bottom] = [Math.max(...boxes.map((box) => box[0] + box[2])), Math.max(...boxes.map((box) => box[1] + box[3]))];
  return { left, top, right, bottom };
};
// All that is highlighted where there is room for it, or else the one package, in the middle.
const center = (node) => {
  const on = nodes.filter((other) => other.classList.contains("on"));
  let area = bounds(on.length ? on : [node]);
  if (area.right - area.left > whole.width || area.bottom - area.top > whole.height) area = bounds([node]);
  to({ x: (area.left + area.right - whole.width) / 2, y: (area.top + area.bottom - whole.height) / 2, width: whole.width, height: whole.height });
};
const focus = (node) => { nodes.forEach((other) => other.setAttribute("tabindex", "-1")); node.setAttribute("tabindex", "0"); node.focus({ preventScroll: true }); };
nodes.forEach((node, at) => {
  node.setAttribute("role", "button");
  node.setAttribute("aria-pressed", "false");
  node.setAttribute("aria-label", node.querySelector("title").textContent);
  node.setAttribute("tabindex", at ? "-1" : "0");
  node.addEventListener("click", () => { if (!dragged) { focus(node); highlight(node); } });
  node.addEventListener("keydown", (event) => {
    const step = { ArrowDown: 1, ArrowRight: 1, ArrowUp: -1, ArrowLeft: -1 }[event.key];
    if (event.key === "Enter" || event.key === " ") highlight(node);
    else if (event.key === "Escape") clear();
    else if (step) { const next = nodes[(at + step + nodes.length) % nodes.length]; focus(next); center(next); }
    else return;
    event.preventDefault();
  });
});
one("#graph-larger").addEventListener("click", () => zoom(0.75));
one("#graph-smaller").addEventListener("click", () => zoom(1 / 0.75));
one("#graph-whole").addEventListener("click", () => { clear(); to(home); });
for (const link of all("a[data-shows]")) {
  link.addEventListener("click", (event) => {
    event.preventDefault();
    const node = one('[data-node="' + link.dataset.shows + '"]');
    clear();
    highlight(node);
    center(node);
    view.scrollIntoView({ block: "center" });
    focus(node);
  });
}
window.addEventListener("beforeprint", () => to(home));
window.addEventListener("afterprint", fit);
fit();
