"use strict";
// Whatever the service sends is set as text, never as markup.
const at = (id) => document.getElementById(id);
const make = (tag, text, className) => {
  const e = document.createElement(tag);
  if (text) e.textContent = text;
  if (className) e.className = className;
  return e;
};
const clock = (time) => new Date(time).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });

async function answer(item, act, buttons) {
  buttons.forEach((b) => (b.disabled = true));
  const sent = await fetch("/answer", {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify({ id: item.id, act }),
  });
  if (!sent.ok) {
    at("foot").textContent = (await sent.text()).trim();
    buttons.forEach((b) => (b.disabled = false));
  }
}

function show(item, may) {
  const box = make("article", "", item.standing);
  box.dataset.id = item.id;
  const who = item.organisation ? `${item.who}, ${item.organisation}` : item.who;
  box.append(make("h2", who));
  const facts = make("dl");
  const fact = (name, value) => value && facts.append(make("dt", name), make("dd", value));
  fact("wants to", item.does);
  fact("as", item.account);
  fact("because", item.reason || "no reason was given");
  fact("for at most", item.at_most);
  fact("recorded", item.recorded ? "yes" : "no");
  fact(item.standing === "asked" ? "answer by" : "since", item.standing === "answered" ? "" : clock(item.at));
  box.append(facts);
  const acts = {
    asked: [["refuse", "No"], ["agree", "Yes, allow this"]],
    answered: [["stop", "Stop"]],
    live: [["stop", "Stop it now"], ["off", "Switch it off for the moment"]],
    off: [["on", "Switch it on again"], ["stop", "Stop it for good"]],
  }[item.standing];
  const buttons = acts.map(([act, words]) => {
    const b = make("button", words, act === "agree" || act === "on" ? "main" : "");
    b.dataset.act = act;
    b.disabled = !may;
    return b;
  });
  buttons.forEach((b) => b.addEventListener("click", () => answer(item, b.dataset.act, buttons)));
  box.append(...buttons);
  if (item.picture && item.lines.length) box.append(pointed(item));
  if (item.talks && may) box.append(talk(item));
  return box;
}

/** The screen as it was when somebody pointed at something, with their lines over it. */
function pointed(item) {
  const [width, height, number] = item.picture;
  const figure = make("figure");
  const image = make("img");
  image.src = `/picture?id=${encodeURIComponent(item.id)}&number=${number}`;
  image.alt = `This screen, on which ${item.who} points at something`;
  const ns = "http://www.w3.org/2000/svg";
  const over = document.createElementNS(ns, "svg");
  over.setAttribute("viewBox", `0 0 ${width} ${height}`);
  over.setAttribute("aria-hidden", "true");
  for (const line of item.lines) {
    const drawn = document.createElementNS(ns, "polyline");
    drawn.setAttribute("points", line.map((p) => p.join(",")).join(" "));
    over.append(drawn);
  }
  const frame = make("div", "", "frame");
  frame.append(image, over);
  figure.append(frame, make("figcaption", `${item.who} points at this.`));
  return figure;
}

/** What is being written, while the page is drawn anew. */
const drafts = new Map();

function talk(item) {
  const section = make("section", "", "talk");
  section.setAttribute("aria-label", "Talk");
  const list = make("ol");
  list.setAttribute("aria-live", "polite");
  for (const [who, text] of item.said) {
    const line = make("li");
    line.append(make("b", who), ` ${text}`);
    list.append(line);
  }
  if (item.said.length) section.append(list);
  const form = make("form", "", "say");
  const field = make("input");
  field.maxLength = 1000;
  field.placeholder = `Write to ${item.who}`;
  field.setAttribute("aria-label", field.placeholder);
  field.dataset.of = item.id;
  field.value = drafts.get(item.id) ?? "";
  field.addEventListener("input", () => drafts.set(item.id, field.value));
  form.append(field, make("button", "Send"));
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const sent = await fetch("/say", {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify({ id: item.id, text: field.value }),
    });
    if (!sent.ok) return (at("foot").textContent = (await sent.text()).trim());
    drafts.delete(item.id);
    field.value = "";
  });
  section.append(form);
  return section;
}

function draw(state) {
  const asked = state.items.filter((i) => i.standing === "asked").length;
  const live = state.items.filter((i) => i.standing === "live" || i.standing === "off").length;
  const people = (n) => (n === 1 ? "Somebody" : `${n} people`);
  let sentence = "Nobody is connected to this computer.";
  if (live) sentence = `${people(live)} ${live === 1 ? "is" : "are"} connected to this computer.`;
  if (asked) sentence = `${people(asked)} ${asked === 1 ? "asks" : "ask"} for your consent.${live ? " " + sentence : ""}`;
  at("sentence").textContent = sentence;
  document.title = asked ? `(${asked}) You are asked` : live ? "Somebody is connected" : "Who is on this computer";
  // Whoever is writing goes on.
  const writing = document.activeElement?.dataset.of;
  at("items").replaceChildren(...state.items.map((i) => show(i, state.may)));
  if (writing) document.querySelector(`[data-of="${CSS.escape(writing)}"]`)?.focus();
  const you = state.you ? `You are ${state.you}.` : "It is not known who you are.";
  at("foot").textContent = `This computer is ${state.machine}. ${you}${state.may ? "" : " Only whoever is at this computer may answer."}`;
}

at("visit").addEventListener("submit", async (event) => {
  event.preventDefault();
  const button = event.target.querySelector("button");
  button.disabled = true;
  const sent = await fetch("/pin", {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify({ pin: at("pin").value }),
  });
  at("taken").textContent = (await sent.text()).trim();
  if (sent.ok) at("pin").value = "";
  button.disabled = false;
});

async function follow() {
  let after = 0;
  for (;;) {
    try {
      const state = await (await fetch(`/state?after=${after}`)).json();
      if (state.version !== after) draw(state);
      after = state.version;
    } catch {
      at("sentence").textContent = "The agent of this computer does not run.";
      at("items").replaceChildren();
      after = 0;
      await new Promise((done) => setTimeout(done, 2000));
    }
  }
}
follow();
