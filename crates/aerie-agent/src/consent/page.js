"use strict";
// Whatever the service sends is set as text, never as markup.
const at = (id) => document.getElementById(id);
const make = (tag, text, className) => {
  const e = document.createElement(tag);
  if (text) e.textContent = text;
  if (className) e.className = className;
  return e;
};
const clock = (time) => new Date(time).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });

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
  return box;
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
  at("items").replaceChildren(...state.items.map((i) => show(i, state.may)));
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
