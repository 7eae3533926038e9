// One case: its pictures, what was expected, and each arm's answer beside the others.

import { isRight, made, page, shown, valueOf } from "./data.js";
import { PictureStage, layersOf } from "./picture_stage.js";
import { markedText, memberList } from "./values.js";
import { addressOf } from "./view_state.js";

/** Draw a case into an element; the stage that can be zoomed comes back. */
export function showCase(element, task, row, state) {
    const hidden = new Set((state.hide ?? "").split(",").filter(Boolean));
    const view = { stage: null };
    const top = made("div", "case-top");
    const side = made("div", "picture-side");
    const answers = answersOf(task, row, hidden);
    answers.prepend(expectedOf(row));
    top.append(side, answers);
    element.replaceChildren(headOf(task, row, state), top);
    showPicture(view, side, task, row, 0, hidden);
    return view;
}

function headOf(task, row, state) {
    const head = made("div", "case-head", made("h3", "", row.id));
    const link = made("a", "", "link to this case");
    link.href = addressOf({ view: "cases", task: task.name, case: row.id, hide: state.hide });
    const facts = [];
    if (row.group) {
        facts.push(`group ${row.group}`);
    }
    if (row.split) {
        facts.push("held out");
    }
    if (row.declines) {
        facts.push("declining is right");
    }
    if (row.apart) {
        facts.push(`arms disagree in ${Math.round(row.apart * 100)} % of pairs`);
    }
    for (const [name, value] of Object.entries(row.given ?? {})) {
        facts.push(`${name}: ${value}`);
    }
    for (const fact of facts) {
        head.append(made("span", "fact", fact));
    }
    head.append(link);
    return head;
}

function expectedOf(row) {
    const box = made("section", "expected", made("h4", "", "expected"));
    const value = row.expected;
    if (value === undefined || value === null) {
        box.append(made("p", "also", "nothing is expected of it"));
    } else {
        box.append(typeof value === "string" ? made("pre", "", value) : memberList(value));
    }
    return box;
}

function showPicture(view, side, task, row, place, hidden) {
    const number = row.pictures[place];
    const picture = page.pictures[number];
    side.replaceChildren();
    if (picture === undefined) {
        side.append(made("p", "also", "this case has no picture"));
        return;
    }
    const stage = new PictureStage(number, `picture ${place + 1} of case ${row.id}`);
    view.stage = stage;
    side.append(stage.element, barOf(view, stage, layersOf(task, row, place, hidden)));
    if (row.pictures.length > 1) {
        side.append(stripOf(row, (other) => showPicture(view, side, task, row, other, hidden), place));
    }
    if (picture.strip) {
        side.append(framesOf(picture));
    }
    stage.fit();
}

function barOf(view, stage, layers) {
    const bar = made("div", "stage-bar");
    for (const [name, label, run] of [
        ["+", "zoom in", () => stage.zoom(1.5)],
        ["−", "zoom out", () => stage.zoom(1 / 1.5)],
        ["fit", "fit the whole picture", () => stage.fit()],
    ]) {
        const button = made("button", "", name);
        button.type = "button";
        button.setAttribute("aria-label", label);
        button.addEventListener("click", run);
        bar.append(button);
    }
    const off = new Set();
    const redraw = () => stage.draw(layers.filter((layer) => !off.has(layer[0])));
    for (const [name, , look] of layers) {
        const label = made("label", "layer");
        const box = made("input");
        box.type = "checkbox";
        box.checked = true;
        box.addEventListener("change", () => {
            off[box.checked ? "delete" : "add"](name);
            redraw();
        });
        label.append(box, ` ${name}`, sample(look));
        bar.append(label);
    }
    redraw();
    const { picture } = stage;
    if (picture.link) {
        const link = made("a", "", "the file");
        link.href = picture.link;
        link.target = "_blank";
        link.rel = "noreferrer";
        bar.append(link);
    }
    return bar;
}

/** How a layer's lines look, beside its name. */
function sample(look) {
    const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    svg.setAttribute("width", 34);
    svg.setAttribute("height", 10);
    svg.setAttribute("aria-hidden", "true");
    const line = document.createElementNS("http://www.w3.org/2000/svg", "path");
    line.setAttribute("d", "M4 5H32");
    line.setAttribute("class", "sample");
    line.setAttribute("stroke-dasharray", look.dash);
    svg.append(line);
    return svg;
}

function stripOf(row, choose, place) {
    const strip = made("div", "strip");
    row.pictures.forEach((number, other) => {
        const button = made("button");
        button.type = "button";
        button.setAttribute("aria-label", `picture ${other + 1}`);
        button.setAttribute("aria-pressed", String(other === place));
        button.append(page.pictures[number].small ? small(page.pictures[number].small, "") : `picture ${other + 1}`);
        button.addEventListener("click", () => choose(other));
        strip.append(button);
    });
    return strip;
}

function framesOf(picture) {
    const strip = made("div", "strip");
    for (const [source, caption] of picture.strip) {
        const figure = made("figure");
        figure.append(small(source, caption), made("figcaption", "", caption));
        strip.append(figure);
    }
    return strip;
}

function small(source, alt) {
    const image = made("img");
    image.alt = alt;
    image.height = 66;
    image.src = source;
    return image;
}

function answersOf(task, row, hidden) {
    const grid = made("div", "answers");
    task.arms.forEach((arm, number) => {
        const answer = row.answers[number];
        if (!hidden.has(arm) && answer) {
            grid.append(answerOf(task, row, arm, answer));
        }
    });
    if (!grid.childElementCount) {
        grid.append(made("p", "also", "no answer that is shown: press 1 to 9 to show arms again"));
    }
    return grid;
}

function answerOf(task, row, arm, answer) {
    const right = isRight(answer);
    const card = made("section", right === false ? "answer missed" : "answer");
    card.dataset.arm = arm;
    const mark =
        right === undefined ? "not scored" : right ? "✓ right" : `✗ ${Math.round((1 - answer.loss) * 100)} %`;
    const status = task.statuses[answer.status];
    card.append(
        made("h4", "", made("span", "", arm), made("span", right === false ? "bad" : right ? "good" : "", mark)),
    );
    if (status !== "ok" || (answer.how && answer.how !== "bare")) {
        card.append(
            made(
                "p",
                "",
                made(
                    "span",
                    `status s-${status}`,
                    answer.how && answer.how !== "bare" ? `${status}, ${answer.how}` : status,
                ),
            ),
        );
    }
    card.append(bodyOf(task, row, answer));
    card.append(...differencesOf(task, answer), factsOf(answer));
    const prompt = answer.prompt ?? task.prompts[arm];
    if (prompt) {
        const details = made("details", "", made("summary", "", "prompt as it was sent"), made("pre", "", prompt));
        card.append(details);
    }
    return card;
}

function bodyOf(task, row, answer) {
    const value = valueOf(task, answer);
    if (typeof value === "string") {
        return value.trim() ? markedText(row.expected, value) : made("p", "also", "(nothing)");
    }
    const places = [...(answer.found ?? []).map((one) => one[1]), ...(answer.errors ?? []).map((one) => one[0])];
    return memberList(value, new Set(places.filter(Boolean)));
}

function differencesOf(task, answer) {
    const lines = [];
    for (const [cause, where, expected, got, note] of answer.found ?? []) {
        const line = made("li", "", made("b", "cause", task.causes[cause]));
        line.append(` ${where ? `${where}: ` : ""}`, shown(expected), " → ", shown(got), note ? ` (${note})` : "");
        lines.push(line);
    }
    for (const [place, what] of answer.errors ?? []) {
        lines.push(made("li", "", `${place || "the answer"}: ${what}`));
    }
    return lines.length ? [made("ul", "findings", ...lines)] : [];
}

function factsOf(answer) {
    const facts = [];
    if (answer.repeats) {
        const rights = answer.repeats.map(([, loss]) => (loss === null ? "·" : loss <= 0 ? "✓" : "✗"));
        facts.push(`repeats ${rights.join("")}`);
    }
    if (answer.money) {
        facts.push(answer.money);
    }
    if (answer.seconds !== undefined) {
        facts.push(`${answer.seconds} s`);
    }
    if (answer.tokens) {
        facts.push(`${answer.tokens[0] ?? "?"} tokens in, ${answer.tokens[1] ?? "?"} out`);
    }
    if (answer.note) {
        facts.push(answer.note);
    }
    return made("p", "facts", facts.join(" · "));
}
