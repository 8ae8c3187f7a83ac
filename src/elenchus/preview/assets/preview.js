// The panel of the preview: reloads the page when the site changes, and tells what the check finds.

const panel = document.querySelector(".preview");
const count = panel?.querySelector(".preview-count");

if (panel) {
  let version = null;
  const events = new EventSource(panel.dataset.events);
  events.addEventListener("version", (event) => {
    if (version !== null && event.data !== version) location.reload();
    version = event.data;
  });
  events.addEventListener("error", () => { count.textContent = "· not connected"; });

  fetch(panel.dataset.problems).then((answer) => answer.json()).then((found) => {
    const wrong = found.errors + found.warnings;
    count.textContent = wrong ? `· ${found.errors} errors, ${found.warnings} warnings` : `· no problems, ${found.notes} notes`;
    count.classList.toggle("bad", wrong > 0);
    const list = panel.querySelector(".preview-found");
    list.hidden = !found.first.length;
    list.replaceChildren(...found.first.map((text) => Object.assign(document.createElement("li"), { textContent: text })));
  }).catch(() => { count.textContent = ""; });
}
