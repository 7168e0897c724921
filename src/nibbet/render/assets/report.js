"use strict";
// The report's behaviour: lists that search, sort and filter, and a dossier per page. Every text from outside is set as text, never as markup.
const read = (name) => JSON.parse(document.getElementById(name).textContent);
const facts = read("facts");
const withDossier = new Set(facts.lists.pages.rows.map((row) => row[0]));
let dossiers = null; // most of the file; read when the first is opened
const number = (digits, sign) => new Intl.NumberFormat("en", { maximumFractionDigits: digits, minimumFractionDigits: digits, signDisplay: sign || "auto" });
const KINDS = {
  whole: number(0).format, tenth: number(1).format, hundredth: number(2).format, signed: number(0, "exceptZero").format,
  share: (value) => number(1).format(value * 100) + "%", text: String, page: String,
};
const told = (kind, value) => (value === null || value === undefined ? "" : (KINDS[kind] || String)(value));

function element(tag, attributes, ...children) {
  const made = document.createElementNS(attributes && attributes.svg ? "http://www.w3.org/2000/svg" : "http://www.w3.org/1999/xhtml", tag);
  for (const [name, value] of Object.entries(attributes || {})) if (name !== "svg" && value !== null) made.setAttribute(name, value);
  made.append(...children.filter((child) => child !== null && child !== ""));
  return made;
}

function link(path) {
  return withDossier.has(path) ? element("a", { href: "#page=" + encodeURIComponent(path) }, path) : document.createTextNode(path || "");
}

// -- lists ----------------------------------------------------------------------------------------------------------------------------------

const lists = {};
const shared = document.querySelector("[data-shared]");

// -- lists as files and on the clipboard ----------------------------------------------------------------------------------------------------

const harmless = (text) => (/^[=+\-@\t\r]/.test(text) && Number.isNaN(Number(text)) ? "'" + text : text); // no cell begins a formula
function listRows(name) {
  const given = facts.lists[name].columns;
  return [given.map((column) => column.title), ...lists[name].getData("active").map((row) => given.map((column) => harmless(String(row[column.field] ?? ""))))];
}

async function copyText(text) {
  try { await navigator.clipboard.writeText(text); return true; } catch { /* not allowed here: the old way */ }
  const box = element("textarea", { "aria-hidden": "true", style: "position: fixed; opacity: 0" });
  box.value = text;
  document.body.append(box);
  box.select();
  const done = document.execCommand("copy");
  box.remove();
  return done;
}

function addTools(name) {
  const tools = document.querySelector(`output[data-count="${name}"]`)?.parentElement;
  if (!tools) return;
  const label = document.querySelector(`[data-list="${name}"]`).dataset.label;
  const save = element("button", { type: "button", "aria-label": `Save as CSV: ${label}` }, "Save as CSV");
  save.addEventListener("click", () => {
    const quoted = listRows(name).map((row) => row.map((cell) => (/[",\r\n]/.test(cell) ? `"${cell.replaceAll('"', '""')}"` : cell)).join(",")).join("\r\n");
    const way = element("a", { href: URL.createObjectURL(new Blob(["\ufeff", quoted, "\r\n"], { type: "text/csv" })), download: `${name}.csv` });
    way.click();
    setTimeout(() => URL.revokeObjectURL(way.href), 1000);
  });
  const copy = element("button", { type: "button", "aria-label": `Copy: ${label}` }, "Copy");
  copy.addEventListener("click", async () => {
    const done = await copyText(listRows(name).map((row) => row.map((cell) => cell.replace(/[\t\r\n]+/g, " ")).join("\t")).join("\n"));
    copy.textContent = done ? "Copied" : "Not copied";
    setTimeout(() => { copy.textContent = "Copy"; }, 1500);
  });
  tools.append(save, copy);
}

function makeList(name, given) {
  const place = document.querySelector(`[data-list="${name}"]`);
  if (!place) return;
  const columns = given.columns.map((column, at) => ({
    field: column.field, title: column.title, headerTooltip: column.meaning, widthGrow: column.grow || 1, minWidth: column.least || 76,
    responsive: column.keep ? 0 : at + 1, visible: !column.hidden, hozAlign: ["text", "page"].includes(column.kind) ? "left" : "right", variableHeight: true,
    headerHozAlign: ["text", "page"].includes(column.kind) ? "left" : "right", sorter: ["text", "page"].includes(column.kind) ? "string" : "number",
    sorterParams: { alignEmptyValues: "bottom" }, headerSortStartingDir: ["text", "page"].includes(column.kind) ? "asc" : "desc",
    formatter: (cell) => (column.kind === "page" ? link(cell.getValue()) : document.createTextNode(told(column.kind, cell.getValue()))),
  }));
  const rows = given.rows.map((row) => Object.fromEntries(given.columns.map((column, at) => [column.field, row[at]])));
  const count = document.querySelector(`[data-count="${name}"]`);
  const table = new Tabulator(place, {
    data: rows, columns, layout: "fitColumns", responsiveLayout: "hide", maxHeight: "46rem", placeholder: "Nothing fits. Clear the search or the filters.",
    columnDefaults: { resizable: false }, autoResize: false, // it would draw again while the report builds, under a click
  });
  table.on("tableBuilt", () => {
    place.setAttribute("aria-label", place.dataset.label);
    place.querySelector(".tabulator-tableholder").removeAttribute("tabindex"); // a grid may hold rows alone; the links in them take the keyboard
    for (const head of place.querySelectorAll(".tabulator-col.tabulator-sortable")) {
      head.tabIndex = 0;
      head.addEventListener("keydown", (press) => { if (["Enter", " "].includes(press.key)) { press.preventDefault(); head.click(); } });
    }
  });
  table.on("dataFiltered", (_, kept) => { if (count) count.textContent = `${told("whole", kept.length)} of ${told("whole", rows.length)}`; });
  lists[name] = table;
  addTools(name);
  if (shared.value) table.on("tableBuilt", () => filterList(name));
}

function filterList(name) {
  if (!lists[name]) makeList(name, facts.lists[name]);
  const tools = document.querySelectorAll(`[data-for="${name}"]`);
  const asked = [...tools].filter((tool) => tool.value.trim()).map((tool) => [tool.dataset.field, tool.value.trim().toLowerCase()]);
  const addresses = facts.lists[name].columns.filter((column) => column.kind === "page").map((column) => column.field);
  const inside = (path) => (shared.value === "/" ? /^\/[^/]*$/.test(path) : path.startsWith(shared.value));
  const within = (row) => !shared.value || !addresses.length || addresses.some((field) => inside(String(row[field] || "")));
  lists[name].setFilter((row) => within(row) && asked.every(([field, value]) =>
    field ? String(row[field] || "").toLowerCase() === value : value.split(/\s+/).every((word) => Object.values(row).some((cell) => String(cell ?? "").toLowerCase().includes(word)))));
}

// a list is made when its place comes near the window, so that the report opens at once
const near = new IntersectionObserver((seen) => {
  for (const { isIntersecting, target } of seen) {
    if (isIntersecting && !lists[target.dataset.list]) { near.unobserve(target); makeList(target.dataset.list, facts.lists[target.dataset.list]); }
  }
}, { rootMargin: "1200px" });
for (const place of document.querySelectorAll("[data-list]")) near.observe(place);
shared.addEventListener("input", () => Object.keys(lists).forEach(filterList));
for (const tool of document.querySelectorAll("[data-for]")) tool.addEventListener("input", () => filterList(tool.dataset.for));
for (const button of document.querySelectorAll("[data-verdict]")) {
  button.addEventListener("click", () => {
    const choice = document.querySelector('[data-for="pages"][data-field="verdict"]');
    choice.value = button.dataset.verdict;
    filterList("pages");
    document.getElementById("pages").scrollIntoView();
    choice.focus({ preventScroll: true });
  });
}

let width = window.innerWidth;
window.addEventListener("resize", () => { if (window.innerWidth !== width) { width = window.innerWidth; for (const table of Object.values(lists)) table.redraw(true); } });

// -- dossiers -------------------------------------------------------------------------------------------------------------------------------

const dialog = document.getElementById("dossier");

function rowsTable(caption, columns, rows) {
  if (!rows || !rows.length) return null;
  const right = (kind) => (["text", "page"].includes(kind) ? null : "n");
  return element("div", { class: "wide" }, element("table", null, element("caption", null, caption),
    element("thead", null, element("tr", null, ...columns.map(([title, kind]) => element("th", { scope: "col", class: right(kind) }, title)))),
    element("tbody", null, ...rows.map((row) => element("tr", null, ...row.map((value, at) => element("td", { class: right(columns[at][1]) }, told(columns[at][1], value))))))));
}

// A line of weeks: the pointer, or the arrow keys, choose a week, and its figure is told.
function weekChart(weeks, days, wide) {
  if (!weeks || weeks.length < 2 || !weeks.some((value) => value > 0)) return null;
  const last = weeks.length - 1, most = Math.max(...weeks), high = 110, left = (at) => (at / last) * wide;
  const whole = `Clicks a week from the week of ${days[0]} to that of ${days[last]}: at most ${told("whole", most)}, in the last ${told("whole", weeks[last])}.`;
  const name = (at) => `Week of ${days[at]}: ${told("whole", weeks[at])} clicks`;
  const caption = element("figcaption", null, whole);
  const mark = element("line", { svg: true, class: "at", x1: wide, x2: wide, y1: 0, y2: high, visibility: "hidden" });
  const drawn = element("svg", { svg: true, viewBox: `-2 -4 ${wide + 4} ${high + 8}`, class: "line", role: "slider", tabindex: "0", "aria-label": "Clicks by week",
    "aria-valuemin": 0, "aria-valuemax": last, "aria-valuenow": last, "aria-valuetext": name(last) },
    element("line", { svg: true, x1: 0, x2: wide, y1: high, y2: high }),
    element("polyline", { svg: true, points: weeks.map((value, at) => `${left(at).toFixed(1)},${(high - (value / most) * high).toFixed(1)}`).join(" ") }), mark);
  const show = (at) => {
    mark.setAttribute("x1", left(at)); mark.setAttribute("x2", left(at)); mark.setAttribute("visibility", "visible");
    drawn.setAttribute("aria-valuenow", at); drawn.setAttribute("aria-valuetext", name(at));
    caption.textContent = name(at);
  };
  const rest = () => { mark.setAttribute("visibility", "hidden"); caption.textContent = whole; };
  drawn.addEventListener("pointermove", (move) => {
    const box = drawn.getBoundingClientRect();
    show(Math.min(last, Math.max(0, Math.round(((move.clientX - box.left) / box.width) * last))));
  });
  drawn.addEventListener("pointerleave", rest);
  drawn.addEventListener("blur", rest);
  drawn.addEventListener("keydown", (press) => {
    const now = Number(drawn.getAttribute("aria-valuenow"));
    const to = { ArrowLeft: now - 1, ArrowDown: now - 1, ArrowRight: now + 1, ArrowUp: now + 1, PageDown: now - 13, PageUp: now + 13, Home: 0, End: last }[press.key];
    if (to !== undefined) { press.preventDefault(); show(Math.min(last, Math.max(0, to))); }
  });
  return element("figure", null, caption, drawn);
}

function trendLine(weeks) {
  if (!weeks || !weeks.length || !facts.weeks[1]) return null;
  const end = Date.parse(facts.weeks[1]);
  return weekChart(weeks, weeks.map((_, at) => new Date(end - (weeks.length - 1 - at) * 7 * 86400000).toISOString().slice(0, 10)), 640);
}

const siteChart = weekChart(facts.site_weeks.map((week) => week[1]), facts.site_weeks.map((week) => week[0]), 1180);
if (siteChart) document.querySelector('[data-chart="site"]').append(siteChart);

function openDossier(path) {
  dossiers = dossiers || read("dossiers");
  const page = dossiers[path];
  if (!page) return;
  const state = [page.verdict || "no verdict: the address is an error or redirects", page.cause, page.confidence && `confidence ${page.confidence}`].filter(Boolean).join(", ");
  const body = [
    element("h2", { id: "dossier-name", tabindex: "-1" }, path),
    element("p", { class: "soft" }, page.title || "", " ", element("a", { href: page.address, rel: "noopener noreferrer", target: "_blank" }, "open the page")),
    element("p", null, element("strong", null, state)),
    ...page.sentences.map((line) => element("p", null, line)),
    page.target ? element("p", null, "To ", link(page.target)) : null,
    trendLine(page.weeks),
    element("dl", null, ...page.measures.flatMap(([name, kind, value]) => [element("div", null, element("dt", null, name), element("dd", null, told(kind, value) || "unknown"))])),
    rowsTable(page.queries.length < page.query_count ? `Queries, the first ${page.queries.length} of ${page.query_count} by impressions` : "Queries by impressions",
      [["query", "text"], ["role", "text"], ["clicks", "whole"], ["impressions", "whole"], ["position", "tenth"], ["pull", "hundredth"], ["answer", "hundredth"]], page.queries),
    rowsTable("Visits by channel", [["channel", "text"], ["sessions", "whole"], ["engaged", "share"], ["usual here", "share"], ["conversions", "whole"]], page.channels),
    rowsTable("Where visits come from", [["source", "text"], ["channel", "text"], ["sessions", "whole"], ["before", "whole"], ["engaged", "share"], ["conversions", "whole"]], page.sources),
    rowsTable("Evidence of the verdict", [["measure", "text"], ["value", "text"], ["asked for", "text"], ["window", "text"], ["source", "text"]], page.evidence),
  ];
  dialog.querySelector("[data-body]").replaceChildren(...body.filter(Boolean));
  if (!dialog.open) dialog.showModal();
  dialog.scrollTop = 0;
  dialog.querySelector("h2").focus();
}

function follow() {
  const asked = /^#page=(.*)$/.exec(location.hash);
  if (asked) openDossier(decodeURIComponent(asked[1]));
  else if (dialog.open) dialog.close();
}

dialog.addEventListener("close", () => { if (location.hash.startsWith("#page=")) history.pushState(null, "", "#pages"); });
dialog.addEventListener("click", (click) => { if (click.target === dialog) dialog.close(); });
dialog.querySelector("[data-close]").addEventListener("click", () => dialog.close());
window.addEventListener("hashchange", follow);
follow();
document.documentElement.dataset.ready = "yes";
