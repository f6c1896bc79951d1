// Small comforts. Everything works without them.
"use strict";

// A form is sent once, however often its button is pressed.
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (form.method !== "post" || event.defaultPrevented) return;
  if (form.dataset.sent) event.preventDefault();
  form.dataset.sent = "yes";
  setTimeout(() => delete form.dataset.sent, 10000);
});
// Coming back to a page, its forms may be sent anew.
window.addEventListener("pageshow", () => {
  for (const form of document.forms) delete form.dataset.sent;
});

// Each tab comes back to its own list, whatever another one shows.
function noteList() {
  if (document.querySelector("#_listing")) sessionStorage.setItem("list", location.pathname + location.search);
  else if (!document.querySelector("form[data-keep], dl.row")) sessionStorage.removeItem("list");
}
document.addEventListener("submit", (event) => {
  if (!event.target.matches("form[data-keep]")) return;
  const box = document.createElement("input");
  Object.assign(box, { type: "hidden", name: "_list", value: sessionStorage.getItem("list") || "" });
  event.target.append(box);
});

// A control of the browser reads by the browser's language: where that is another, a line of text is safe.
function plainControls(part) {
  const own = Intl.DateTimeFormat().resolvedOptions().locale.toLowerCase();
  if (own === document.documentElement.dataset.locale.toLowerCase()) return;
  for (const box of part.querySelectorAll("input[type=number], input[type=date], input[type=datetime-local], input[type=time]")) {
    const value = box.value;
    const day = { date: "2026-04-01", time: "14:30", "datetime-local": "2026-04-01T14:30" }[box.type];
    if (day) box.placeholder = day;
    else box.inputMode = "decimal";
    box.type = "text";
    box.value = value;
  }
}
plainControls(document);
document.addEventListener("htmx:load", (event) => plainControls(event.detail.elt));

// An image can be looked at before it is sent, and what is too large is told at once.
document.addEventListener("change", (event) => {
  const input = event.target;
  if (input.type === "file") preview(input);
  if (input.matches("[data-all]")) {
    for (const box of document.querySelectorAll('input[name="_row"][type=checkbox]')) box.checked = input.checked;
  }
  if (input.matches('[data-all], input[name="_row"]')) countChosen();
});

function preview(input) {
  const file = input.files[0];
  const shown = document.getElementById(`${input.id}-preview`);
  const largest = Number(input.dataset.largest);
  input.setCustomValidity(file && largest && file.size > largest ? input.dataset.large : "");
  input.reportValidity();
  if (!shown) return;
  if (shown.src) URL.revokeObjectURL(shown.src);
  shown.hidden = !file || !file.type.startsWith("image/");
  if (!shown.hidden) shown.src = URL.createObjectURL(file);
}

// Ticks are kept while one pages: those of other pages go along when the form is sent.
const picked = () => document.querySelector("#_listing form.picked");
// What is ticked under one filter is no choice under the next, where it is out of sight.
const PLACES = ["_after", "_before", "_size", "_sort", "_filter", "_columns"];
function pickedUnder() {
  const asked = new URLSearchParams(location.search);
  for (const name of PLACES) asked.delete(name);
  asked.sort();
  return `picked ${location.pathname}?${asked}`;
}
const kept = () => {
  try {
    return new Set(JSON.parse(sessionStorage.getItem(pickedUnder()) || "[]"));
  } catch {
    return new Set();
  }
};
const keep = (keys) => sessionStorage.setItem(pickedUnder(), JSON.stringify([...keys]));

function countChosen() {
  const boxes = [...document.querySelectorAll('input[name="_row"][type=checkbox]')];
  const here = boxes.filter((box) => box.checked).length;
  let away = 0;
  if (picked()) {
    const keys = kept();
    for (const box of boxes) {
      if (box.checked) keys.add(box.value);
      else keys.delete(box.value);
    }
    keep(keys);
    away = keys.size - here;
  }
  const told = document.getElementById("_chosen-count");
  if (told) told.textContent = here + away ? ` (${here + away}${away ? `, ${away} of them on other pages` : ""})` : "";
  const none = document.querySelector("[data-none]");
  if (none) none.hidden = !(here + away);
}

function showChosen() {
  const keys = picked() ? kept() : new Set();
  for (const box of document.querySelectorAll('input[name="_row"][type=checkbox]')) {
    if (keys.has(box.value)) box.checked = true;
  }
  countChosen();
}
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (form !== picked()) return;
  const here = new Set([...form.querySelectorAll('input[name="_row"]')].map((box) => box.value));
  for (const key of kept()) {
    if (here.has(key)) continue;
    const box = document.createElement("input");
    Object.assign(box, { type: "hidden", name: "_row", value: key });
    form.append(box);
  }
});
// What is done is done: the ticks go. Going back without doing it keeps them.
document.addEventListener("submit", (event) => {
  const list = location.pathname.replace(/\/chosen$/, "");
  if (list === location.pathname || event.target.querySelector('[name="_part"]')) return;
  for (const name of Object.keys(sessionStorage)) {
    if (name.startsWith(`picked ${list}?`)) sessionStorage.removeItem(name);
  }
});
document.addEventListener("click", (event) => {
  if (!event.target.closest?.("[data-none]")) return;
  for (const box of document.querySelectorAll('input[name="_row"], [data-all], [name="_all"]')) box.checked = false;
  keep([]);
  countChosen();
});
showChosen();
noteList();

// The column that a list is sorted by is in sight.
function showSorted() {
  const sorted = document.querySelector("th[aria-sort]");
  const table = sorted?.closest(".table");
  if (!table || table.scrollWidth <= table.clientWidth) return;
  const end = Math.ceil(sorted.offsetLeft + sorted.offsetWidth) + 1;
  if (end > table.scrollLeft + table.clientWidth) table.scrollLeft = end - table.clientWidth;
}
showSorted();

// Pressing Enter in a search box of a form finds, and does not save the form.
let found = "";
document.addEventListener("keydown", (event) => {
  const input = event.target;
  if (event.key !== "Enter" || !input.dataset || !input.dataset.enter) return;
  event.preventDefault();
  found = `${input.name.slice(0, -"-find".length)}-found`;
  htmx.trigger(input, "find");
});

// A field is checked when it is left: its message changes, and nothing else.
const typed = (field) => [...field.querySelectorAll("input, select, textarea")]
  .map((one) => (one.matches("[type=checkbox], [type=radio]") ? one.checked : one.value)).join("\n");
document.addEventListener("focusin", (event) => {
  const field = event.target.closest("[data-check]");
  if (field && field.dataset.was === undefined) field.dataset.was = typed(field);
});
document.addEventListener("focusout", (event) => {
  const field = event.target.closest("[data-check]");
  if (!field || field.contains(event.relatedTarget)) return;
  const now = typed(field);
  if (now !== field.dataset.was && !event.target.validity?.badInput) check(field);
  field.dataset.was = now;
});

async function check(field) {
  const form = field.closest("form");
  const number = (field.checks = (field.checks || 0) + 1);
  const sent = new URLSearchParams();
  for (const [name, value] of new FormData(form)) if (typeof value === "string") sent.append(name, value);
  const name = field.id.slice(0, -"-field".length);
  sent.set("_part", `check:${name}`);
  let text;
  try {
    text = await (await fetch(form.action, { method: "POST", body: sent })).text();
  } catch {
    return;
  }
  const told = new DOMParser().parseFromString(text, "text/html").getElementById(`${name}-problem`);
  // An older answer says nothing of what is typed now.
  if (!told || number !== field.checks) return;
  const problem = document.getElementById(told.id);
  if (problem.textContent !== told.textContent) problem.textContent = told.textContent;
  field.classList.toggle("wrong", told.textContent !== "");
  for (const one of field.querySelectorAll("[aria-describedby]")) {
    if (told.textContent) one.setAttribute("aria-invalid", "true");
    else one.removeAttribute("aria-invalid");
  }
}

// Where a part of the page comes anew, one goes on where one was.
document.addEventListener("htmx:afterSettle", (event) => {
  showChosen();
  showSorted();
  const part = event.target;
  if (part.id === found) {
    found = "";
    (part.querySelector("input") || part).focus();
  }
  if (part.classList?.contains("found")) {
    const told = document.getElementById(`${part.id.slice(0, -"-found".length)}-told`);
    if (told) told.textContent = part.querySelector(".hint")?.textContent || "";
  }
  if (more && part.id === `${more}-field`) {
    more = "";
    const entries = part.querySelectorAll(".entry");
    entries[entries.length - 1]?.querySelector("input, select, textarea")?.focus();
  }
});
let more = "";
document.addEventListener("click", (event) => {
  const button = event.target.closest?.('button[value^="more:"]');
  if (button) more = button.value.slice("more:".length);
});

// What was typed is not lost by leaving the page.
let touched = false;
document.addEventListener("input", (event) => {
  if (event.target.closest?.("form[data-keep]")) touched = true;
});
document.addEventListener("submit", () => (touched = false));
window.addEventListener("beforeunload", (event) => {
  if (touched) event.preventDefault();
});

// What is slow says that it goes on; what can't be reached leaves no old rows under new words.
let slow = 0;
document.addEventListener("htmx:beforeRequest", () => {
  clearTimeout(slow);
  slow = setTimeout(() => document.body.classList.add("busy"), 400);
});
document.addEventListener("htmx:afterRequest", () => {
  clearTimeout(slow);
  document.body.classList.remove("busy");
});
document.addEventListener("htmx:sendError", () => offline(true));
document.addEventListener("htmx:afterOnLoad", () => offline(false));
function offline(now) {
  document.getElementById("_offline").hidden = !now;
  document.getElementById("_listing")?.classList.toggle("stale", now);
}

// Where a problem is shown, or a form begins, one goes on there.
document.querySelector("[autofocus]")?.focus();

// A long list is narrowed by typing; Enter goes to the first that is left, Escape closes what is open.
document.addEventListener("input", (event) => {
  const wanted = event.target.dataset?.narrows;
  if (!wanted) return;
  const words = event.target.value.toLowerCase().split(/\s+/);
  const list = wanted === "menu" ? event.target.closest("nav") : document.getElementById(wanted);
  for (const one of list.querySelectorAll(wanted === "menu" ? "li" : "label")) {
    one.hidden = !words.every((word) => one.textContent.toLowerCase().includes(word));
  }
  for (const group of list.querySelectorAll("section")) group.hidden = !group.querySelector("li:not([hidden])");
});
document.addEventListener("keydown", (event) => {
  if (event.key === "Enter" && event.target.dataset?.narrows) {
    const list = event.target.closest("nav, fieldset");
    const first = list.querySelector("li:not([hidden]) a, label:not([hidden]) input");
    // Where no page is called so, rows are looked for.
    if (first || !event.target.form?.matches(".menu form")) event.preventDefault();
    first?.click();
  }
  if (event.key !== "Escape") return;
  const menu = event.target.closest?.("details[open]");
  if (menu) {
    menu.open = false;
    menu.querySelector("summary").focus();
  } else if (event.target.closest?.("[data-closes]")) {
    location.assign(event.target.closest("[data-closes]").dataset.closes);
  }
});
document.querySelector("details.menu")?.addEventListener("toggle", (event) => {
  if (event.target.open) event.target.querySelector("[data-narrows]")?.focus();
});

// Several boxes at once: from the last one that was ticked to this one.
let last = null;
document.addEventListener("click", (event) => {
  const box = event.target;
  if (!box.matches?.('input[name="_row"]')) return;
  if (event.shiftKey && last) {
    const all = [...document.querySelectorAll('input[name="_row"][type=checkbox]')];
    const [from, to] = [all.indexOf(last), all.indexOf(box)].sort((a, b) => a - b);
    for (const one of all.slice(from, to + 1)) one.checked = box.checked;
    countChosen();
  }
  last = box;
});
