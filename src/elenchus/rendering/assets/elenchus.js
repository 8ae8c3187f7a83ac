// Lets visitors choose among the rows of a published page. It hides and reorders rows by the keys that
// stand in the page: which rows each choice leaves, and the rows in each order. It asks nothing, so that
// what it shows is what the site's own listing would show. Without it, all rows stand there as they are.

const among = (set, rows) => rows.filter((row) => set.has(row));

class Chooser {
  constructor(form) {
    const id = form.id.replace(/-form$/, "");
    const part = (name) => document.getElementById(`${id}-${name}`);
    this.form = form;
    this.keys = JSON.parse(part("keys").textContent);
    this.section = form.closest(".elen-section");
    this.result = this.section.querySelector(".elen-result");
    this.pager = this.section.querySelector(".elen-pager");
    this.first = [...this.section.querySelectorAll("[data-row]")];
    this.list = this.first[0].parentNode;
    this.rows = new Map(this.first.map((row) => [Number(row.dataset.row), row]));
    const rest = part("rest");
    for (const row of rest ? document.importNode(rest.content, true).querySelectorAll("[data-row]") : []) {
      this.rows.set(Number(row.dataset.row), row);
    }
    this.every = [...this.rows.keys()].sort((one, other) => one - other);
    this.controls = [...new Set([...form.elements].map((each) => each.name).filter(Boolean))];
    this.initial = this.query().toString();
    this.read(new URLSearchParams(location.search));
    form.addEventListener("change", () => this.show());
    form.addEventListener("submit", (event) => { event.preventDefault(); this.show(); });
    form.querySelector(".elen-buttons a").addEventListener("click", (event) => { event.preventDefault(); this.form.reset(); this.restart(); });
    form.hidden = false;
    if (location.search) this.show();
  }

  inputs(name) {
    return [...this.form.elements].filter((each) => each.name === name);
  }

  // What is chosen for a parameter, in the order in which the choices stand.
  chosen(name) {
    return this.inputs(name).flatMap((each) =>
      each.type === "checkbox" ? (each.checked ? [each.value] : []) : each.value ? [each.value] : []);
  }

  // Take choices from the address; those that are not on the page are reported, not followed.
  read(query) {
    this.unknown = [];
    for (const name of this.controls) {
      const wanted = query.getAll(name);
      for (const text of wanted.filter((each) => each && !(each in this.keys.choices[name]))) this.unknown.push(text);
      if (!wanted.length) continue;
      for (const input of this.inputs(name)) {
        if (input.type === "checkbox") input.checked = wanted.includes(input.value);
        else if (wanted[0] in this.keys.choices[name]) input.value = wanted[0];
      }
    }
  }

  // The address of what is chosen: parameters and choices in their order, what is so anyway left out.
  query() {
    const found = new URLSearchParams();
    for (const name of this.controls) {
      const select = this.inputs(name).find((each) => each.tagName === "SELECT");
      const usual = select && [...select.options].find((each) => each.defaultSelected) || (select && select.options[0]);
      for (const text of this.chosen(name)) if (!usual || text !== usual.value) found.append(name, text);
    }
    return found;
  }

  // The rows that meet all choices, but for those of one parameter.
  left(except) {
    let rows = this.every;
    for (const name of this.controls) {
      if (name === except || this.keys.orders.includes(name)) continue;
      const chosen = this.chosen(name);
      if (chosen.length) rows = among(new Set(chosen.flatMap((text) => this.keys.choices[name][text])), rows);
    }
    return rows;
  }

  ordered(rows) {
    const left = new Set(rows);
    const name = this.keys.orders.find((each) => this.chosen(each).length);
    return name ? among(left, this.keys.choices[name][this.chosen(name)[0]]) : rows;
  }

  count() {
    for (const name of this.controls) {
      if (this.keys.orders.includes(name)) continue;
      const others = this.left(name);
      const of = (text) => among(new Set(this.keys.choices[name][text] ?? others), others).length;
      for (const input of this.inputs(name)) {
        if (input.type === "checkbox") {
          const count = input.closest("label").querySelector(".elen-count");
          if (count) count.textContent = of(input.value);
        } else {
          for (const option of input.options) {
            if (/ \(\d+\)$/.test(option.textContent)) option.textContent = option.textContent.replace(/\d+\)$/, `${of(option.value)})`);
          }
        }
      }
    }
  }

  show() {
    const query = this.query();
    if (query.toString() === this.initial && !this.unknown.length) return this.restart();
    const rows = this.ordered(this.left());
    this.list.replaceChildren(...rows.map((row) => this.rows.get(row)));
    if (this.pager) this.pager.hidden = true;
    this.count();
    this.tell(rows.length, query);
  }

  // As the page was published: its own rows, its pager.
  restart() {
    this.unknown = [];
    this.list.replaceChildren(...this.first);
    if (this.pager) this.pager.hidden = false;
    this.count();
    this.result.textContent = "";
    this.address(new URLSearchParams());
  }

  tell(count, query) {
    const text = this.form.dataset.chosen.replace("{count}", count).replace("{all}", this.every.length);
    this.result.textContent = [...this.unknown.map((each) => `“${each}”?`), text].join(" · ");
    this.unknown = [];
    this.address(query);
  }

  address(query) {
    const text = query.toString();
    history.replaceState(history.state, "", location.pathname + (text ? `?${text}` : "") + location.hash);
  }
}

for (const form of document.querySelectorAll("form.elen-choose[data-chosen]")) {
  try {
    new Chooser(form);
  } catch (error) {
    form.hidden = true;
    console.error(error);
  }
}
