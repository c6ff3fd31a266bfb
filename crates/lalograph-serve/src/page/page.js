// The page: every part asks the service as any other program would.

const find = (selector, within = document) => within.querySelector(selector);
const all = (selector, within = document) => [...within.querySelectorAll(selector)];

/** An element with properties and children; text is only ever set as text. */
function make(name, properties = {}, ...children) {
  const element = document.createElement(name);
  for (const [key, value] of Object.entries(properties)) {
    if (key.startsWith("on")) element.addEventListener(key.slice(2), value);
    else if (key in element && key !== "role") element[key] = value;
    else element.setAttribute(key, value);
  }
  element.append(...children.filter((child) => child !== null && child !== undefined));
  return element;
}

function draw(name, attributes = {}, ...children) {
  const element = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  element.append(...children);
  return element;
}

// ---- Asking the service ----

let token = "";
try {
  token = sessionStorage.getItem("token") ?? "";
} catch {
  // A browser that keeps nothing asks again.
}

/** Asks, and throws what is wrong in words. */
async function ask(method, path, body, signal) {
  const headers = {};
  if (body !== undefined) headers["content-type"] = "application/json";
  if (token) headers.authorization = `Bearer ${token}`;
  const response = await fetch(path, { method, headers, signal, body: body === undefined ? undefined : JSON.stringify(body) });
  if (response.ok) return response;
  const problem = await response.json().catch(() => ({ detail: `status ${response.status}` }));
  if (response.status === 401) find("#entrance").hidden = false;
  throw new Error(problem.remedy ? `${problem.detail}; ${problem.remedy}` : problem.detail);
}

const get = async (path) => (await ask("GET", path)).json();
const post = async (path, body, signal) => (await ask("POST", path, body, signal)).json();

/** Calls `each` with the name and the data of every event of an answer. */
async function listen(response, each) {
  const reader = response.body.getReader();
  const decoder = new TextDecoder();
  let text = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    text += decoder.decode(value, { stream: true });
    for (let end = text.indexOf("\n\n"); end >= 0; end = text.indexOf("\n\n")) {
      const fields = Object.fromEntries(text.slice(0, end).split("\n").map((line) => [line.slice(0, line.indexOf(":")), line.slice(line.indexOf(":") + 2)]));
      text = text.slice(end + 2);
      if (fields.event) each(fields.event, JSON.parse(fields.data));
    }
  }
}

const modelPath = (name, what) => `/models/${encodeURIComponent(name)}/${what}`;

// ---- Parts that several tabs use ----

const percent = (share) => {
  const p = 100 * share;
  if (p === 0) return "0 %";
  // As many places as the first figure needs.
  return `${p >= 0.01 ? p.toFixed(2) : p.toFixed(Math.min(9, Math.ceil(-Math.log10(p))))} %`;
};

const visible = (text) => text.replace(/\n/g, "\u23ce").replace(/\t/g, "\u21e5") || "\u2423";

/** A list of bars; `rows` are name, share of the whole width, figure, and what a click does. */
function bars(rows) {
  return make("ul", { className: "bars" }, ...rows.map((row, number) => {
    const bar = make("i");
    bar.style.width = `${100 * Math.max(0, Math.min(1, row.share))}%`;
    const name = row.choose
      ? make("button", { type: "button", className: "name", onclick: row.choose }, row.name)
      : make("span", { className: "name" }, row.name);
    return make("li", { className: row.className ?? (number === 0 ? "best" : "") }, name, make("span", { className: "track", "aria-hidden": "true" }, bar), make("span", { className: "figure" }, row.figure));
  }));
}

const facts = (pairs) => make("div", { className: "facts" }, ...pairs.map(([name, value]) => make("div", {}, make("b", {}, value), make("span", {}, name))));

/** Does the work of a button: says what is going on, and what went wrong. */
async function work(section, state, action) {
  const place = find(".state", section) ?? find("#write-state");
  place.classList.remove("wrong");
  place.textContent = state;
  try {
    place.textContent = (await action()) ?? "";
  } catch (error) {
    if (error.name === "AbortError") {
      place.textContent = "stopped";
      return;
    }
    place.classList.add("wrong");
    place.textContent = error.message;
  }
}

const number = (selector) => {
  const value = find(selector).value.trim();
  return value === "" ? undefined : Number(value);
};

const chosen = (section) => find("select.model", section).value;

let cards = [];

/** What separates a text from what the model writes on: an answer is below its prompt. */
const joint = (model) => (cards.find((card) => card.name === model)?.answers ? "\n" : "");

// ---- What is beside a token ----

const peek = find("#peek");
let peeked = null;

function closePeek() {
  peek.hidden = true;
  if (peeked) peeked.setAttribute("aria-expanded", "false");
  peeked = null;
}

function openPeek(span, content) {
  if (peeked === span) return;
  closePeek();
  peeked = span;
  span.setAttribute("aria-expanded", "true");
  peek.replaceChildren(...content);
  peek.hidden = false;
  const box = span.getBoundingClientRect();
  const left = Math.max(8, Math.min(box.left, document.documentElement.clientWidth - peek.offsetWidth - 12));
  peek.style.left = `${left + scrollX}px`;
  // Above the token where there is no room below it.
  const above = box.bottom + peek.offsetHeight + 8 > innerHeight && box.top > peek.offsetHeight + 8;
  peek.style.top = `${scrollY + (above ? box.top - peek.offsetHeight - 4 : box.bottom + 4)}px`;
}

document.addEventListener("keydown", (event) => {
  if (event.key === "Escape" && peeked) {
    const span = peeked;
    closePeek();
    span.focus();
  }
});
document.addEventListener("pointerdown", (event) => {
  if (!peek.contains(event.target) && event.target !== peeked) closePeek();
});

/** Lets arrow keys go from token to token, Enter into what is beside it. */
function walk(view) {
  view.addEventListener("keydown", (event) => {
    const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    const spans = all("span[tabindex]", view);
    const at = spans.indexOf(document.activeElement);
    if (step && at >= 0 && spans[at + step]) {
      spans[at].tabIndex = -1;
      spans[at + step].tabIndex = 0;
      spans[at + step].focus();
      event.preventDefault();
    }
    if (event.key === "Enter" && at >= 0 && !peek.hidden) {
      find("button", peek)?.focus();
      event.preventDefault();
    }
  });
}

const rarity = (probability) => (probability >= 0.5 ? "" : probability >= 0.1 ? "p1" : probability >= 0.01 ? "p2" : "p3");

/** Adds a token that was written, with its alternatives beside it. */
function addToken(view, drawn, choose) {
  const text = drawn.text.trimStart();
  view.append(drawn.text.slice(0, drawn.text.length - text.length));
  const first = !find("span[tabindex]", view);
  const span = make("span", { className: rarity(drawn.probability), tabIndex: first ? 0 : -1, role: "button", "aria-expanded": "false" }, text || (drawn.token === "(end of document)" ? "\u23ce" : "\u00b7"));
  span.setAttribute("aria-label", `${text.trim() || drawn.token}, ${percent(drawn.probability)}`);
  const open = () => openPeek(span, [
    make("p", {}, `${visible(drawn.token)}: ${percent(drawn.probability)}`),
    ...(drawn.alternatives?.length
      ? [bars(drawn.alternatives.map((other) => ({
          name: visible(other.token),
          share: other.probability,
          figure: percent(other.probability),
          choose: choose && other.text ? () => { closePeek(); choose(other); } : undefined,
        })))]
      : []),
  ]);
  for (const event of ["mouseenter", "focus", "click"]) span.addEventListener(event, open);
  view.append(span);
}

// ---- Write ----

const writing = { undo: [], abort: null, text: find("#write-text") };

function keepForUndo() {
  writing.undo.push(writing.text.value);
  find("#write-undo").disabled = false;
}

function showHow() {
  const how = find("#write-how").value;
  all(".for-sample", find("#write")).forEach((element) => (element.hidden = how !== "sample"));
  all(".for-beam", find("#write")).forEach((element) => (element.hidden = how !== "beam"));
}

function writeRequest() {
  const common = { text: writing.text.value, tokens: number("#write-tokens"), seed: number("#write-seed") };
  switch (find("#write-how").value) {
    case "greedy": return [{ ...common, greedy: true }];
    case "beam": return [{ ...common, beam: { width: number("#write-width"), best: number("#write-best") } }];
    default: {
      const given = find("#write-temperatures").value.split(/[,;\s]+/).filter(Boolean);
      const temperatures = given.length ? given.map(Number) : [undefined];
      if (temperatures.some(Number.isNaN)) throw new Error("a temperature is a number above 0, such as 0.8");
      return temperatures.map((temperature) => ({ ...common, temperature, top_k: number("#write-top-k"), top_p: number("#write-top-p") }));
    }
  }
}

/** Writes with one request into a view; the text so far is given to `grown`. */
async function writeInto(view, request, before, grown) {
  const model = chosen(find("#write"));
  const path = modelPath(model, "write");
  // The middle of an answer is no prompt.
  const goesOn = joint(model) === "";
  const response = await ask("POST", path, { ...request, stream: true, alternatives: 6 }, writing.abort.signal);
  let text = "";
  let ended = null;
  await listen(response, (event, data) => {
    if (event === "token") {
      const prefix = before + text;
      text += data.text;
      addToken(view, data, goesOn ? (other) => writeOnFrom(prefix + other.text) : null);
      grown(text);
    } else if (event === "text") {
      ended = data;
      text = data.text;
      grown(text);
    } else if (event === "error") {
      throw new Error(data.detail);
    }
  });
  return ended;
}

function writeOnFrom(text) {
  keepForUndo();
  writing.text.value = text;
  write(true);
}

function write(kept) {
  writing.abort?.abort();
  const abort = new AbortController();
  writing.abort = abort;
  find("#write-stop").disabled = false;
  const columns = find("#write-columns");
  const view = find("#write-tokens-view");
  const start = performance.now();
  return work(find("#write"), "writing\u2026", async () => {
    try {
      const requests = writeRequest();
      const before = writing.text.value && writing.text.value + joint(chosen(find("#write")));
      columns.replaceChildren();
      closePeek();
      const isBeam = Boolean(requests[0].beam);
      const alone = requests.length === 1 && !isBeam;
      find("#write-last").hidden = !alone;
      if (isBeam) {
        const answer = await post(modelPath(chosen(find("#write")), "write"), requests[0], abort.signal);
        answer.texts.forEach((text) => columns.append(column(`Text ${text.number}: ${text.score.toFixed(3)} nats`, before, text.text)));
        return `${answer.texts.length} texts`;
      }
      if (alone) {
        view.replaceChildren();
        if (!kept) keepForUndo();
        const ended = await writeInto(view, requests[0], before, (text) => {
          writing.text.value = before + text;
          writing.text.scrollTop = writing.text.scrollHeight;
        });
        const seconds = (performance.now() - start) / 1000;
        return ended ? `${ended.tokens} tokens in ${seconds.toFixed(2)} seconds, ended by: ${ended.ended_by}` : "stopped";
      }
      await Promise.all(requests.map((request) => {
        const place = column(`Temperature ${request.temperature}`, before, "");
        columns.append(place);
        return writeInto(find(".tokens", place), request, before, (text) => (place.dataset.text = text));
      }));
      return `${requests.length} texts`;
    } finally {
      if (writing.abort === abort) find("#write-stop").disabled = true;
    }
  });
}

/** A text beside others, that can be taken. */
function column(heading, before, text) {
  const place = make("div", { className: "column" }, make("h3", {}, heading), make("div", { className: "tokens", role: "group", "aria-label": heading }, text));
  place.dataset.text = text;
  walk(find(".tokens", place));
  place.append(make("button", {
    type: "button",
    onclick: () => {
      keepForUndo();
      writing.text.value = before + place.dataset.text;
      writing.text.focus();
    },
  }, "Take this text"));
  return place;
}

function setUpWrite() {
  walk(find("#write-tokens-view"));
  find("#write-how").addEventListener("change", showHow);
  showHow();
  find("#write-go").addEventListener("click", () => write(false));
  find("#write-stop").addEventListener("click", () => writing.abort?.abort());
  find("#write-undo").addEventListener("click", () => {
    writing.abort?.abort();
    writing.text.value = writing.undo.pop() ?? "";
    find("#write-undo").disabled = writing.undo.length === 0;
    find("#write-last").hidden = true;
  });
}

// ---- What comes next ----

function setUpNext() {
  const section = find("#next");
  const show = () => work(section, "reading\u2026", async () => {
    const text = find("#next-text").value;
    const answer = await post(modelPath(chosen(section), "next"), { text, count: number("#next-count") });
    const greatest = answer.candidates[0].probability;
    find(".answer", section).replaceChildren(
      bars(answer.candidates.map((next) => ({
        name: visible(next.token),
        share: next.probability / greatest,
        figure: percent(next.probability),
        choose: next.text ? () => { find("#next-text").value = text + next.text; show(); } : undefined,
      }))),
      make("p", { className: "help" }, `Entropy ${answer.entropy_bits.toFixed(3)} bits, as for ${answer.perplexity.toFixed(2)} equally probable tokens; shown: ${percent(answer.covered)} of the distribution. Choose a token to go on with it.`),
      unknownNote(answer.unknown_tokens),
    );
  });
  find("#next-go").addEventListener("click", show);
}

const unknownNote = (unknown) => make("p", { className: "help" }, unknown?.length ? `Not in the model's vocabulary: ${[...new Set(unknown)].slice(0, 8).join(", ")}` : "");

// ---- Surprise ----

function setUpSurprise() {
  const section = find("#surprise");
  find("#surprise-go").addEventListener("click", () => work(section, "scoring\u2026", async () => {
    const answer = await post(modelPath(chosen(section), "score"), { text: find("#surprise-text").value, tokens: true, most_probable: true });
    const view = make("div", { className: "tokens", role: "group", "aria-label": "Surprise by token" });
    answer.tokens.forEach((token, place) => {
      view.append(token.before);
      const level = token.surprise_bits >= 8 ? "p3" : token.surprise_bits >= 4 ? "p2" : token.surprise_bits >= 1 ? "p1" : "unread";
      const span = make("span", { className: token.unknown ? `${level} unknown` : level, tabIndex: place === 0 ? 0 : -1, role: "button", "aria-expanded": "false" }, token.ends_document ? "\u23ce" : token.token);
      span.setAttribute("aria-label", `${token.ends_document ? "end" : token.token}, ${token.surprise_bits.toFixed(1)} bits`);
      const open = () => openPeek(span, [
        make("p", {}, `${token.surprise_bits.toFixed(2)} bits, probability ${percent(token.probability)}, rank ${token.rank}`),
        bars(token.most_probable.map((next) => ({ name: visible(next.token), share: next.probability, figure: percent(next.probability) }))),
      ]);
      for (const event of ["mouseenter", "focus", "click"]) span.addEventListener(event, open);
      view.append(span);
    });
    walk(view);
    const legend = [["unread", "below 1 bit: as expected"], ["p1", "from 1 bit"], ["p2", "from 4 bits"], ["p3", "from 8 bits: very unexpected"]];
    find(".answer", section).replaceChildren(
      facts([["perplexity", answer.perplexity.toFixed(2)], ["bits per token", answer.bits_per_token.toFixed(3)], ["bits per byte", answer.bits_per_byte.toFixed(3)], ["tokens", String(answer.predicted_tokens)], ["unknown", String(answer.unknown_tokens)]]),
      make("div", { className: "legend" }, ...legend.map(([name, what]) => make("span", { className: name }, what))),
      view,
    );
  }));
}

// ---- Classify ----

function setUpClassify(models) {
  const section = find("#classify");
  const card = () => models.find((model) => model.name === chosen(section));
  const change = () => {
    const numbers = Boolean(card()?.features);
    find("#classify-label").textContent = numbers ? "A row of numbers, in the order of its columns" : "Document";
    find(".for-text", section).hidden = numbers;
    find("#classify-class").replaceChildren(make("option", { value: "" }, "the most probable class"), ...(card()?.classes ?? []).map((name) => make("option", { value: name }, name)));
    find(".answer", section).replaceChildren();
  };
  find("select.model", section).addEventListener("change", change);
  change();
  const classes = (list) => bars(list.map((one) => ({ name: one.class, share: one.probability, figure: percent(one.probability) })));
  find("#classify-go").addEventListener("click", () => work(section, "classifying\u2026", async () => {
    const text = find("#classify-text").value;
    const place = find(".answer", section);
    if (card().features) {
      const row = text.split(/[,;\s]+/).filter(Boolean).map(Number);
      const answer = await post(modelPath(chosen(section), "classify"), { rows: [row] });
      place.replaceChildren(classes(answer.documents[0].classes));
      return;
    }
    const named = find("#classify-class").value || undefined;
    const path = (what) => modelPath(chosen(section), what);
    const [whole, explained] = await Promise.all([post(path("classify"), { texts: [text] }), post(path("explain"), { text, class: named })]);
    const read = whole.documents[0];
    const view = make("div", { className: "tokens", role: "group", "aria-label": "Effect by token" });
    for (const token of explained.tokens) {
      const effect = token.effect ?? 0;
      const strength = Math.abs(effect) >= 1 ? 2 : Math.abs(effect) >= 0.2 ? 1 : 0;
      const kind = token.effect === null ? "unread" : strength ? `${effect > 0 ? "for" : "against"}${strength}` : "";
      view.append(token.before, make("span", { className: token.unknown ? `${kind} unknown` : kind, title: token.effect === null ? "not read" : `${effect >= 0 ? "+" : "\u2212"}${Math.abs(effect).toFixed(2)}` }, token.token));
    }
    const decisive = explained.tokens.filter((token) => token.effect).sort((a, b) => Math.abs(b.effect) - Math.abs(a.effect)).slice(0, 8);
    const greatest = Math.abs(decisive[0]?.effect ?? 1);
    place.replaceChildren(
      classes(read.classes),
      make("p", { className: "help" }, `${read.read_tokens} of ${read.tokens} tokens were read; ${read.unknown_tokens} are not in the vocabulary.`),
      make("h2", {}, `What decided for or against ${explained.class}`),
      make("p", { className: "help" }, `Effect in nats: ${explained.effect}. Honey speaks for the class, plum with a dotted line against it.`),
      view,
      bars(decisive.map((token) => ({ name: token.token, className: token.effect > 0 ? "best" : "against", share: Math.abs(token.effect) / greatest, figure: `${token.effect > 0 ? "+" : "\u2212"}${Math.abs(token.effect).toFixed(2)}` }))),
    );
  }));
}

// ---- Talk ----

const talking = { conversation: null, model: null, abort: null };

function line(who, name, text) {
  const item = make("li", { className: who }, make("b", {}, name), make("span", {}, text));
  find("#talk-lines").append(item);
  item.scrollIntoView({ block: "nearest" });
  return find("span", item);
}

async function begin(model) {
  return (await post(modelPath(model, "conversations"), {})).id;
}

/** Takes a turn of a conversation, and shows it as it comes. */
async function turn(conversation, said, settings, who, name) {
  const place = line(who, name, "");
  const response = await ask("POST", `/conversations/${conversation}/turns`, { ...settings, ...said, stream: true }, talking.abort.signal);
  let found = null;
  await listen(response, (event, data) => {
    if (event === "token") place.textContent += data.text;
    if (event === "turn") found = data;
    if (event === "error") throw new Error(data.detail);
  });
  if (found) place.textContent = found.text || "\u2026";
  return found;
}

function setUpTalk() {
  const section = find("#talk");
  const settings = () => ({ temperature: number("#talk-temperature"), tokens: number("#talk-tokens"), seed: number("#talk-seed") });
  const busy = (on) => {
    find("#talk-stop").disabled = !on;
    find("#talk-again").disabled = on || !talking.conversation;
  };
  const speak = (said) => work(section, "answering\u2026", async () => {
    talking.abort = new AbortController();
    busy(true);
    try {
      const model = find("#talk-model").value;
      if (talking.model !== model) {
        talking.conversation = await begin(model);
        talking.model = model;
      }
      await turn(talking.conversation, said, settings(), "", model);
    } finally {
      busy(false);
    }
  });
  find("#talk-form").addEventListener("submit", (event) => {
    event.preventDefault();
    const text = find("#talk-text").value;
    find("#talk-text").value = "";
    line("you", "you", text);
    speak({ text });
  });
  find("#talk-again").addEventListener("click", () => speak({ again: true }));
  find("#talk-stop").addEventListener("click", () => talking.abort?.abort());
  find("#talk-new").addEventListener("click", () => work(section, "", async () => {
    talking.abort?.abort();
    if (talking.conversation) await ask("DELETE", `/conversations/${talking.conversation}`).catch(() => null);
    talking.conversation = talking.model = null;
    find("#talk-lines").replaceChildren();
    busy(false);
  }));
  find("#talk-two").addEventListener("click", () => work(section, "talking\u2026", async () => {
    talking.abort = new AbortController();
    busy(true);
    const models = [find("#talk-model").value, find("#talk-second").value];
    const voices = await Promise.all(models.map(begin));
    try {
      let said = find("#talk-text").value;
      if (said) line("you", "you", said);
      for (let number_ = 0; number_ < number("#talk-turns"); number_ += 1) {
        const which = number_ % 2;
        const temperature = which ? number("#talk-second-temperature") : number("#talk-temperature");
        const name = which ? `second (${models[1]})` : `first (${models[0]})`;
        const found = await turn(voices[which], { text: said }, { ...settings(), temperature }, which ? "second" : "", name);
        said = found?.text ?? "";
      }
    } finally {
      voices.forEach((voice) => ask("DELETE", `/conversations/${voice}`).catch(() => null));
      busy(false);
    }
  }));
}

// ---- Vectors ----

function setUpVectors() {
  const section = find("#vectors");
  const look = () => work(section, "looking\u2026", async () => {
    const request = { plus: [], minus: [], count: number("#vectors-count") };
    let sign = "plus";
    for (const word of find("#vectors-word").value.split(/\s+/).filter(Boolean)) {
      if (word === "+" || word === "-") sign = word === "+" ? "plus" : "minus";
      else request[sign].push(word);
    }
    const answer = await post(modelPath(chosen(section), "neighbours"), request);
    find(".answer", section).replaceChildren(bars(answer.neighbours.map((near) => ({
      name: near.word,
      share: near.cosine,
      figure: near.cosine.toFixed(3),
      choose: () => { find("#vectors-word").value = near.word; look(); },
    }))));
  });
  find("#vectors-form").addEventListener("submit", (event) => {
    event.preventDefault();
    look();
  });
  const map = () => work(section, "drawing\u2026", async () => {
    const answer = await get(`${modelPath(chosen(section), "map")}?words=120`);
    const [width, height, margin] = [1040, 640, 30];
    const range = (axis) => {
      const values = answer.points.map((point) => point[axis]);
      return [Math.min(...values), Math.max(...values)];
    };
    const [xs, ys] = [range("x"), range("y")];
    const scale = (value, [low, high], size) => margin + ((value - low) / (high - low || 1)) * size;
    const picture = draw("svg", { class: "map", viewBox: `0 0 ${width} ${height}` });
    const taken = [];
    for (const point of answer.points) {
      const [x, y] = [scale(point.x, xs, width - 4 * margin), height - scale(point.y, ys, height - 2 * margin)];
      const group = draw("g", { class: "word", tabindex: "0", role: "button", "aria-label": point.word }, draw("circle", { cx: x, cy: y, r: 3.5 }));
      const box = [x + 5, y - 8, x + 5 + 7.4 * point.word.length, y + 6];
      if (!taken.some((other) => box[0] < other[2] && other[0] < box[2] && box[1] < other[3] && other[1] < box[3])) {
        taken.push(box);
        const label = draw("text", { x: x + 6, y: y + 4 });
        label.textContent = point.word;
        group.append(label);
      } else {
        const title = draw("title");
        title.textContent = point.word;
        group.append(title);
      }
      const choose = () => { find("#vectors-word").value = point.word; look(); };
      group.addEventListener("click", choose);
      group.addEventListener("keydown", (event) => { if (event.key === "Enter") choose(); });
      picture.append(group);
    }
    find("#vectors-map").replaceChildren(picture);
  });
  find("select.model", section).addEventListener("change", map);
  section.addEventListener("shown", () => { if (!find("svg", section)) map(); });
}

// ---- Runs ----

const watching = { abort: null };

/** Curves of the loss by step, with a label at the end of each. */
function curves(points) {
  const [width, height, left, right, bottom, top] = [1040, 390, 60, 110, 34, 34];
  const shown = points.filter((point) => point.kind !== "test");
  const picture = draw("svg", { class: "curves", viewBox: `0 0 ${width} ${height}`, role: "img", "aria-label": "Loss by step" });
  if (shown.length === 0) return picture;
  const steps = shown.map((point) => point.step);
  const losses = shown.map((point) => point.loss);
  const [last, low, high] = [Math.max(...steps, 1), Math.min(...losses), Math.max(...losses)];
  const x = (step) => left + (step / last) * (width - left - right);
  const y = (loss) => top + ((high - loss) / (high - low || 1)) * (height - top - bottom);
  const write = (text, attributes) => {
    const element = draw("text", attributes);
    element.textContent = text;
    picture.append(element);
  };
  for (let part = 0; part <= 4; part += 1) {
    const loss = low + ((high - low) * part) / 4;
    picture.append(draw("line", { class: "grid", x1: left, x2: width - right, y1: y(loss), y2: y(loss) }));
    write(loss.toFixed(2), { class: "quiet", x: left - 8, y: y(loss) + 4, "text-anchor": "end" });
    write(Math.round((last * part) / 4).toLocaleString("en"), { class: "quiet", x: x((last * part) / 4), y: height - 12, "text-anchor": "middle" });
  }
  write("loss", { class: "quiet", x: left - 8, y: 16, "text-anchor": "end" });
  write("step", { class: "quiet", x: width - right + 40, y: height - 12 });
  let labelled = null;
  for (const kind of ["training", "validation"]) {
    const own = shown.filter((point) => point.kind === kind);
    if (own.length === 0) continue;
    picture.append(draw("polyline", { class: kind, points: own.map((point) => `${x(point.step)},${y(point.loss)}`).join(" ") }));
    if (kind === "validation") own.forEach((point) => picture.append(draw("circle", { class: kind, cx: x(point.step), cy: y(point.loss), r: 3 })));
    let place = y(own[own.length - 1].loss) + 4;
    if (labelled !== null && Math.abs(place - labelled) < 16) place = labelled + (place < labelled ? -16 : 16);
    labelled = place;
    write(kind, { class: kind, x: x(own[own.length - 1].step) + 8, y: place });
  }
  return picture;
}

async function watch(name) {
  watching.abort?.abort();
  const abort = new AbortController();
  watching.abort = abort;
  const section = find("#runs");
  const seen = { points: [], samples: [], state: "" };
  let due = false;
  const show = () => {
    due = false;
    if (watching.abort !== abort) return;
    const validations = seen.points.filter((point) => point.kind === "validation");
    const trained = seen.points.filter((point) => point.kind === "training").at(-1);
    const last = validations.at(-1);
    const pairs = [["state", seen.state], ["steps", (seen.points.at(-1)?.step ?? 0).toLocaleString("en")]];
    if (trained) pairs.push(["training loss", trained.loss.toFixed(4)]);
    if (last) {
      pairs.push(["validation loss", last.loss.toFixed(4)]);
      Object.entries(last.figures).slice(0, 3).forEach(([figure, value]) => pairs.push([`validation ${figure.replaceAll("_", " ")}`, value.toPrecision(4)]));
    }
    find("#runs-facts").replaceChildren(...facts(pairs).children);
    find("#runs-curves").replaceChildren(curves(seen.points));
    const steps = [...new Set(seen.samples.map((sample) => sample.step))].slice(-3).reverse();
    find("#runs-samples").replaceChildren(...steps.flatMap((step) => [
      make("h2", {}, `Samples at step ${step.toLocaleString("en")}`),
      ...seen.samples.filter((sample) => sample.step === step).map((sample) => make("div", { className: "sample" }, make("b", {}, `temperature ${sample.temperature}`), make("i", {}, sample.seed_text), sample.text)),
    ]));
  };
  await work(section, "", async () => {
    const response = await ask("GET", `/runs/${encodeURIComponent(name)}/events`, undefined, abort.signal);
    await listen(response, (event, data) => {
      if (event === "state") {
        if (data.restarted) { seen.points = []; seen.samples = []; }
        seen.state = data.state;
      }
      if (event === "point") seen.points.push(data);
      if (event === "sample") seen.samples.push(data);
      if (!due) {
        due = true;
        setTimeout(show, 100);
      }
    });
    return "the service has ended";
  });
}

function setUpRuns() {
  const section = find("#runs");
  const names = find("#runs-name");
  const refresh = () => work(section, "looking\u2026", async () => {
    const before = names.value;
    const { runs } = await get("/runs");
    names.replaceChildren(...runs.map((run) => make("option", { value: run.name }, `${run.name} (${run.state})`)));
    if (runs.length === 0) return "no runs in this folder yet";
    names.value = runs.some((run) => run.name === before) ? before : (runs.find((run) => run.state === "running") ?? runs[0]).name;
    watch(names.value);
    return "";
  });
  names.addEventListener("change", () => watch(names.value));
  find("#runs-refresh").addEventListener("click", refresh);
  section.addEventListener("shown", refresh);
}

// ---- The tabs ----

const NAMES = { write: "Write", next: "What comes next", surprise: "Surprise", classify: "Classify", talk: "Talk", vectors: "Vectors", runs: "Runs" };

function openTab(name, focus) {
  closePeek();
  for (const tab of all("[role=tab]")) {
    const on = tab.id === `tab-${name}`;
    tab.setAttribute("aria-selected", String(on));
    tab.tabIndex = on ? 0 : -1;
    if (on && focus) tab.focus();
  }
  for (const section of all("[role=tabpanel]")) section.hidden = section.id !== name;
  if (name !== "runs") watching.abort?.abort();
  find(`#${name}`).dispatchEvent(new Event("shown"));
  history.replaceState(null, "", `#${name}`);
}

function setUpTabs(models, hasRuns) {
  const kinds = new Set(models.map((model) => model.kind));
  const able = Object.keys(NAMES).filter((name) => {
    if (name === "runs") return hasRuns;
    return kinds.has(find("select.model", find(`#${name}`)).dataset.kind);
  });
  const list = find("#tabs");
  list.replaceChildren(...able.map((name) => make("button", { type: "button", role: "tab", id: `tab-${name}`, "aria-controls": name, onclick: () => openTab(name) }, NAMES[name])));
  list.addEventListener("keydown", (event) => {
    const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (!step) return;
    const at = able.findIndex((name) => find(`#tab-${name}`) === document.activeElement);
    openTab(able[(at + step + able.length) % able.length], true);
  });
  const wanted = location.hash.slice(1);
  openTab(able.includes(wanted) ? wanted : able[0]);
}

let isSetUp = false;

async function start() {
  const { models, runs, limits } = await get("/models");
  find("#entrance").hidden = true;
  if (isSetUp) return;
  isSetUp = true;
  cards = models;
  for (const select of all("select.model")) {
    select.replaceChildren(...models.filter((model) => model.kind === select.dataset.kind).map((model) => make("option", { value: model.name, title: `${model.network}, ${model.parameters} parameters` }, model.name)));
  }
  for (const field of all("#write-tokens, #talk-tokens")) field.max = limits.tokens;
  setUpWrite();
  setUpNext();
  setUpSurprise();
  setUpClassify(models);
  setUpTalk();
  setUpVectors();
  setUpRuns();
  setUpTabs(models, runs);
  document.body.dataset.ready = "true";
}

find("#entrance").addEventListener("submit", (event) => {
  event.preventDefault();
  token = find("#token").value.trim();
  try {
    sessionStorage.setItem("token", token);
  } catch {
    // It is asked for again then.
  }
  start().catch((error) => (find("#entrance label").textContent = error.message));
});

start().catch((error) => (find("#entrance label").textContent = error.message));
