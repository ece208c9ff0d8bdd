// Opens a page that `yostel report` wrote in Chromium, in the light and in the dark, uses it as a reader would, and lets axe
// look for what keeps anybody out: node .ci/page.mjs MODULES PAGE.html; with light or dark, only that, and without axe
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";
import assert from "node:assert/strict";

const [modules, page, ...schemes] = process.argv.slice(2);
const require = createRequire(pathToFileURL(modules + "/"));
const { chromium } = require("playwright-core");
const axe = require.resolve("axe-core/axe.min.js");
const address = pathToFileURL(page).href;
const browser = await chromium.launch({ executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium", args: ["--no-sandbox"] });
const figures = {};
for (const colorScheme of schemes.length ? schemes : ["light", "dark"]) {
  // The page forbids scripts that are not its own; axe has to be let in.
  for (const bypassCSP of schemes.length ? [false] : [false, true]) {
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, colorScheme, bypassCSP });
    const tab = await context.newPage();
    const wrong = [];
    tab.on("console", (message) => { if (["error", "warning"].includes(message.type())) wrong.push(message.text()); });
    tab.on("pageerror", (error) => wrong.push(String(error)));
    tab.on("request", (request) => { if (request.url() !== address) wrong.push("asked for " + request.url()); });
    await tab.goto(address);
    if (bypassCSP) {
      await tab.addScriptTag({ path: axe });
      const { violations } = await tab.evaluate(() => window.axe.run(document, { resultTypes: ["violations"] }));
      const bad = violations.filter((one) => ["serious", "critical"].includes(one.impact));
      assert.deepEqual(bad.map((one) => [one.id, one.nodes[0].html]), [], "axe");
    } else {
      await use(tab);
    }
    assert.deepEqual(wrong, []);
    await context.close();
  }
}
await browser.close();
console.log(`A page of ${figures.packages} packages, ${schemes.join() || "light and dark"}: no request, no error${schemes.length ? "" : ", nothing serious for axe"}; `
  + `a search took ${figures.search.toFixed(0)} ms to the next frame but one, a way ${figures.way.toFixed(0)} ms`);

async function use(tab) {
  const shown = (table) => tab.locator(`#${table} tbody tr:not([hidden])`).count();
  const all = await shown("package-table");
  const name = await tab.locator("#package-table tbody tr:nth-child(2) td").first().innerText();
  // Time from the keystroke until a second frame has begun, so that the first has been painted.
  const search = (text) => tab.evaluate(async (text) => {
    const field = document.querySelector("[data-filters=package-table] input");
    const begin = performance.now();
    field.value = text;
    field.dispatchEvent(new Event("input"));
    await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
    return performance.now() - begin;
  }, text);
  figures.search = await search(name);
  figures.packages = all;
  const found = await shown("package-table");
  assert.ok(found >= 1 && found < all, `${found} of ${all}`);
  assert.equal(await tab.locator("[data-filters=package-table] output").innerText(), `${found} of ${all}`);
  await search("");
  assert.equal(await shown("package-table"), all);
  // Filters of findings: each kind by itself adds up to all of them.
  const findings = await shown("finding-table");
  const kinds = await tab.locator("[data-filters=finding-table] select[name=kind] option").allInnerTexts();
  let sum = 0;
  for (const kind of kinds.slice(1)) {
    await tab.locator("[data-filters=finding-table] select[name=kind]").selectOption(kind);
    sum += await shown("finding-table");
  }
  assert.equal(sum, findings);
  await tab.locator("[data-filters=finding-table] select[name=kind]").selectOption("");
  // By size, numbers as numbers.
  await tab.locator("#package-table th", { hasText: "Size" }).getByRole("button").click();
  const sizes = await tab.locator("#package-table tbody td[data-key]").evaluateAll((cells) => cells.map((cell) => Number(cell.dataset.key)));
  assert.deepEqual(sizes, sizes.slice().sort((a, b) => a - b));
  // The way to a package: who leads to it stays, the rest steps back.
  figures.way = await tab.evaluate(async () => {
    const link = document.querySelector("#package-table a[data-shows]");
    const begin = performance.now();
    link.click();
    await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
    return performance.now() - begin;
  });
  const pressed = tab.locator("[data-node][aria-pressed=true]");
  assert.equal(await pressed.count(), 1);
  assert.ok(await tab.locator(".g.way .e.on").count() >= 1);
  assert.match(await tab.locator("#graph-said").innerText(), /leads? to it, and it leads to/);
  // By keyboard: to the next one, its ways, and back.
  await tab.keyboard.press("ArrowDown");
  await tab.keyboard.press("Enter");
  assert.equal(await pressed.count(), 1);
  await tab.keyboard.press("Escape");
  assert.equal(await pressed.count(), 0);
  const view = () => tab.locator("#graph-view svg").getAttribute("viewBox");
  const before = await view();
  await tab.locator("#graph-larger").click();
  const larger = await tab.locator("#graph-view svg").evaluate((svg) => svg.viewBox.baseVal.width);
  assert.ok(larger < Number(before.split(" ")[2]));
  await tab.locator("#graph-whole").click();
}
