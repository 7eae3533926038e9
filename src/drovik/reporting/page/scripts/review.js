// The page on which people judge: one answer, or two beside each other, and a key for what is said of it.

import { made, page, shown } from "./data.js";
import { isTyping } from "./keys.js";
import { PictureStage } from "./picture_stage.js";
import { editedValue, showEdit, withPlace } from "./review_edit.js";
import { Parts, fieldsOf, sentencesOf } from "./review_parts.js";
import { PlaceDrawing } from "./review_places.js";
import { service } from "./review_service.js";
import { memberList } from "./values.js";

const VERDICTS = {
    judge: [
        ["1", "right", { verdict: "right" }],
        ["2", "partly", { verdict: "partly" }],
        ["3", "wrong", { verdict: "wrong" }],
    ],
    beside: [
        ["1", "the first is better", { prefer: 0 }],
        ["2", "the second is better", { prefer: 1 }],
        ["3", "no difference", { prefer: null }],
    ],
    fill: [
        ["1", "right as it is", { verdict: "right" }],
        ["3", "wrong, nothing to fill in", { verdict: "wrong" }],
    ],
};
const HINTS = [
    ["1 2 3", "say it"],
    ["← →", "item before, next"],
    ["u", "undo"],
    ["n", "note"],
    ["f", "field by field"],
    ["c", "claim by claim"],
    ["e", "correct it"],
    ["x", "what is expected"],
    ["b", "draw a missing box"],
    ["p", "set a missing point"],
    ["+ − 0", "zoom"],
];

const part = (id) => document.getElementById(id);
const current = { state: null, item: null, stages: [], correct: undefined, missing: [] };

async function tried(run) {
    try {
        part("problem").hidden = true;
        return await run();
    } catch (error) {
        part("problem").hidden = false;
        part("problem").textContent = `Not kept: ${error.message}`;
        return null;
    }
}

async function start() {
    current.state = await service.state();
    const asked = Number(location.hash.slice(1));
    const first = location.hash && asked >= 0 && asked < current.state.items ? asked : (current.state.next ?? 0);
    drawVerdicts();
    await show(first);
}

function drawVerdicts() {
    part("verdicts").replaceChildren(
        ...VERDICTS[current.state.mode].map(([key, words, said]) => {
            const button = made("button", "", made("kbd", "", key), ` ${words}`);
            button.type = "button";
            button.dataset.said = JSON.stringify(said);
            button.addEventListener("click", () => judge(said));
            return button;
        }),
    );
    const hints = HINTS.flatMap(([key, what]) => [made("kbd", "", key), ` ${what}  `]);
    part("hints").replaceChildren(...hints);
}

async function show(number) {
    const item = await tried(() => service.item(number));
    if (!item) {
        return;
    }
    Object.assign(current, { item, correct: undefined, missing: item.said?.missing ?? [] });
    history.replaceState(null, "", `#${number}`);
    part("case-name").textContent = item.case;
    part("note").value = item.said?.note ?? "";
    part("edit").hidden = true;
    current.parts?.close();
    tell();
    showPictures(item);
    showAnswers(item);
    part("main").focus({ preventScroll: true });
}

function tell() {
    const { item, state } = current;
    const blind = state.blind && state.mode !== "fill" ? ", blind" : "";
    part("progress").textContent =
        `${item.judged} of ${state.items} judged by ${state.by}${blind} · item ${item.number + 1}`;
    for (const button of part("verdicts").children) {
        const said = JSON.parse(button.dataset.said);
        const before =
            item.said &&
            (said.verdict ? item.said.verdict === said.verdict : item.said.prefer === (said.prefer ?? -1));
        button.setAttribute("aria-pressed", String(Boolean(before)));
    }
    const facts = [item.said ? "judged already" : "", item.suspect ? `suspect: ${item.suspect}` : ""];
    if (current.correct !== undefined) {
        facts.push("corrected: now say it");
    }
    if (current.missing.length) {
        facts.push(`${current.missing.length} missing places drawn`);
    }
    part("said").textContent = facts.filter(Boolean).join(" · ");
}

function showPictures(item) {
    current.stages = [];
    const holders = item.pictures.map(({ path, size }, number) => {
        if (!size) {
            return made("p", "bad", `${path} cannot be read`);
        }
        page.pictures[number] = { path, size, small: service.pictureAddress(item.number, number) };
        const stage = new PictureStage(number, `picture ${number + 1} of case ${item.case}`);
        stage.drawing = number === 0 ? new PlaceDrawing(stage, addPlace) : null;
        current.stages[number] = stage;
        return stage.element;
    });
    part("pictures").replaceChildren(...holders);
    for (const stage of current.stages) {
        stage?.fit();
    }
    drawShapes(false);
}

/** What answers say of places, what is missing, and what is expected once somebody has asked for it. */
function drawShapes(withExpected) {
    const { item, missing } = current;
    const looks = [
        { dash: "9 5", pin: "M-8 -8L8 8M8 -8L-8 8" },
        { dash: "2 4", pin: "M0 -10V10M-10 0H10" },
    ];
    current.stages.forEach((stage, number) => {
        const layers = item.answers.map((answer, place) => [
            item.answers.length > 1 ? `answer ${place + 1}` : "answer",
            answer.shapes.filter((shape) => shape[0] === number),
            looks[place % looks.length],
        ]);
        if (withExpected) {
            layers.unshift([
                "expected",
                item.shapes.filter((shape) => shape[0] === number),
                { dash: "none", pin: looks[0].pin },
            ]);
        }
        if (number === 0) {
            const shapes = missing.map((one) => [0, one.length === 2 ? "point" : "box", one, ""]);
            layers.push(["missing", shapes, { dash: "14 3", pin: looks[1].pin }]);
        }
        stage?.draw(layers);
    });
}

function addPlace(place) {
    current.missing = [...current.missing, place];
    const { places } = current.state;
    const fits = places && (places.kind === "boxes") === (place.length === 4);
    if (fits && current.state.mode !== "beside") {
        current.correct = withPlace(current.correct ?? current.item.answers[0].value, places, place);
        if (!part("edit").hidden || current.state.mode === "fill") {
            showEdit(part("edit"), current.correct);
        }
    }
    drawShapes(false);
    tell();
}

function showAnswers(item) {
    const cards = item.answers.map((answer, number) => {
        const name = item.answers.length > 1 ? `answer ${number + 1}` : "answer";
        const card = made("section", "answer", made("h4", "", answer.arm ? `${name}, ${answer.arm}` : name));
        const isText = current.state.form === "text" || answer.value === null || typeof answer.value !== "object";
        card.append(isText ? made("pre", "", shown(answer.text)) : memberList(answer.value));
        if (answer.status !== "ok") {
            card.append(made("p", "", made("span", `status s-${answer.status}`, answer.status)));
        }
        return card;
    });
    part("answers").replaceChildren(...cards);
}

function showExpected() {
    const box = made("section", "expected", made("h4", "", "expected"));
    const value = current.item.expected;
    if (!current.item.has_expected) {
        box.append(made("p", "also", "nothing is expected of it"));
    } else {
        box.append(typeof value === "string" ? made("pre", "", value) : memberList(value));
    }
    part("answers").querySelector(".expected")?.remove();
    part("answers").prepend(box);
    drawShapes(true);
}

async function judge(said) {
    const { item, correct, missing } = current;
    const body = { number: item.number, ...said, note: part("note").value, missing };
    if (correct !== undefined) {
        body.correct = correct;
    }
    const found = await tried(() => service.judge(body));
    if (found) {
        current.state.judged = found.judged;
        await show(found.next ?? item.number);
        if (found.next === null) {
            part("said").textContent = "All of it is judged: this page may be closed.";
        }
    }
}

async function undo() {
    const found = await tried(() => service.undo());
    if (found) {
        await show(found.number ?? current.item.number);
    }
}

function step(by) {
    const number = current.item.number + by;
    if (number >= 0 && number < current.state.items) {
        show(number);
    }
}

function edit() {
    const answer = current.item.answers[0];
    const isText = current.state.form === "text" || answer.value === null;
    showEdit(part("edit"), current.correct ?? (isText ? answer.text : answer.value));
}

function keepEdit(event) {
    event?.preventDefault();
    current.correct = editedValue(part("edit"));
    part("edit").hidden = true;
    if (current.state.mode === "fill") {
        judge({ verdict: "wrong" });
    } else {
        tell();
        part("main").focus({ preventScroll: true });
    }
}

function byParts(kind) {
    const answer = current.item.answers[0];
    const isObject = answer.value !== null && typeof answer.value === "object" && !Array.isArray(answer.value);
    if (current.state.mode !== "judge" || (kind === "fields" && !isObject)) {
        part("said").textContent = "There are no fields here: c goes through its sentences.";
        return;
    }
    const parts = kind === "fields" ? fieldsOf(answer.value) : sentencesOf(answer.text).map((one) => [one, one]);
    if (parts.length) {
        current.parts = new Parts(part("parts"), kind, parts, judge);
    }
}

const COMMANDS = {
    f: () => byParts("fields"),
    c: () => byParts("claims"),
    ArrowLeft: () => step(-1),
    ArrowRight: () => step(1),
    u: undo,
    n: () => part("note").focus(),
    e: () => current.state.mode !== "beside" && edit(),
    x: showExpected,
    b: () => current.stages[0]?.drawing.start("box"),
    p: () => current.stages[0]?.drawing.start("point"),
    "+": () => current.stages[0]?.zoom(1.25),
    "-": () => current.stages[0]?.zoom(0.8),
    0: () => current.stages[0]?.fit(),
};

function onKey(event) {
    if (isTyping(event.target)) {
        if (event.key === "Escape" || (event.key === "Enter" && event.target === part("note"))) {
            event.preventDefault();
            part("edit").hidden = true;
            part("main").focus();
        } else if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) {
            keepEdit(event);
        }
        return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey || !current.item) {
        return;
    }
    if (current.parts && !current.parts.closed && current.parts.takes(event.key)) {
        event.preventDefault();
        return;
    }
    const verdict = VERDICTS[current.state.mode].find(([key]) => key === event.key);
    if (verdict) {
        event.preventDefault();
        judge(verdict[2]);
    } else if (COMMANDS[event.key]) {
        event.preventDefault();
        COMMANDS[event.key]();
    }
}

part("edit").addEventListener("submit", keepEdit);
addEventListener("keydown", onKey);
addEventListener("resize", () => current.stages.forEach((stage) => stage.fit()));
tried(start);
