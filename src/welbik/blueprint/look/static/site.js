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

// An image can be looked at before it is sent, and what is too large is told at once.
document.addEventListener("change", (event) => {
  const input = event.target;
  if (input.type === "file") preview(input);
  if (input.matches("[data-all]")) {
    for (const box of document.querySelectorAll('input[name="_row"]')) box.checked = input.checked;
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

function countChosen() {
  const count = document.querySelectorAll('input[name="_row"]:checked').length;
  const told = document.getElementById("_chosen-count");
  if (told) told.textContent = count ? ` (${count})` : "";
}

// Pressing Enter in a search box of a form finds, and does not save the form.
document.addEventListener("keydown", (event) => {
  const button = event.key === "Enter" && event.target.dataset && document.getElementById(event.target.dataset.enter);
  if (!button) return;
  event.preventDefault();
  button.click();
});

// Where a problem is shown, one goes on there.
for (const first of document.querySelectorAll("[autofocus]")) first.focus();
document.addEventListener("htmx:afterSettle", countChosen);
