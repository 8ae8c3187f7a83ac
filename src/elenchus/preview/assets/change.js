// The form that changes a section: looks while it is written in, offers what may be written, keeps the page in place.

const seen = document.querySelector(".change-page");
let asked = 0;

function toSection() {
  const place = seen.contentDocument?.getElementById(seen.dataset.section);
  if (!place) return;
  place.scrollIntoView({ block: "start" });
  place.style.outline = "2px dashed currentColor";
  place.style.outlineOffset = "6px";
}
seen.addEventListener("load", toSection);
toSection();

async function look(form, does) {
  const turn = ++asked;
  const body = new URLSearchParams(new FormData(form));
  body.set("do", does);
  const answer = await fetch(form.action, { method: "POST", body, redirect: "follow" });
  if (turn !== asked) return;
  if (answer.redirected) { location.assign(`${answer.url}#${seen.dataset.section}`); return; }
  const text = await answer.text();
  if (turn !== asked) return;
  if (!answer.ok) { form.querySelector(".change-told").textContent = text; return; }
  const found = new DOMParser().parseFromString(text, "text/html");
  const fresh = found.querySelector("form");
  if (does === "look" && form.contains(document.activeElement) && document.activeElement.matches("input[type=text], textarea")) {
    refresh(form, fresh);
  } else {
    form.replaceWith(fresh);
    listen(fresh);
  }
  const page = found.querySelector(".change-page").getAttribute("srcdoc");
  if (page !== seen.getAttribute("srcdoc")) seen.setAttribute("srcdoc", page);
}

// While somebody writes, what stands around the cursor is renewed, and not what they write in.
function refresh(form, fresh) {
  const old = [...form.querySelectorAll(".change-lines > li:not(.change-more)")];
  const now = [...fresh.querySelectorAll(".change-lines > li:not(.change-more)")];
  if (old.length === now.length) {
    old.forEach((line, at) => {
      line.querySelector("output").replaceWith(now[at].querySelector("output"));
      line.querySelector(".change-beside").replaceWith(now[at].querySelector(".change-beside"));
      line.className = now[at].className;
    });
  }
  form.querySelector(".change-told").replaceWith(fresh.querySelector(".change-told"));
  form.querySelector(".change-difference")?.remove();
  const kept = form.querySelector("button[value=keep]");
  kept.disabled = fresh.querySelector("button[value=keep]").disabled;
  if (document.activeElement.name !== "text" && document.activeElement.name !== "more" && old.length === now.length) {
    form.elements.text.value = fresh.elements.text.value;
    form.elements.was.value = fresh.elements.was.value;
  }
}

async function offer(form, field) {
  const body = new URLSearchParams(new FormData(form));
  body.set("typed", field.value);
  body.set("at", String(Number(/^line-(\d+)$/.exec(field.name)?.[1] ?? -1) + 1));
  const answer = await fetch(form.dataset.offers, { method: "POST", body });
  if (!answer.ok) return;
  const options = (await answer.json()).map((each) => Object.assign(document.createElement("option"), each));
  document.getElementById("change-offers").replaceChildren(...options);
}

function listen(form) {
  let timer;
  form.addEventListener("input", (event) => {
    clearTimeout(timer);
    timer = setTimeout(() => look(form, "look"), event.target.type === "checkbox" ? 0 : 200);
    if (event.target.list) offer(form, event.target);
  });
  form.addEventListener("focusin", (event) => { if (event.target.list) offer(form, event.target); });
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    clearTimeout(timer);
    document.activeElement.blur();
    look(form, event.submitter?.value ?? "look");
  });
}
listen(document.querySelector("form"));
