// Which cases are shown, and in which order. Nothing here touches the page.

import { isRight } from "./data.js";

const TEXTS = new WeakMap();

/** All that is said about a case, in small letters, for searching. */
function textOf(row) {
    let text = TEXTS.get(row);
    if (text === undefined) {
        const answers = row.answers.map((one) => (one ? one.text : ""));
        text = [row.id, JSON.stringify(row.expected ?? ""), JSON.stringify(row.given ?? ""), ...answers]
            .join("\n")
            .toLowerCase();
        TEXTS.set(row, text);
    }
    return text;
}

/** The value of a column of the cases, as text. */
export function columnOf(row, column) {
    if (column === "group" || column === "split") {
        return row[column] ?? "";
    }
    return String(row.given?.[column.slice("given.".length)] ?? "");
}

/** How often an answer agrees with what is expected, over all arms: 0 to 1. */
function lossOf(row, arms) {
    let sum = 0;
    let count = 0;
    for (const number of arms) {
        const loss = row.answers[number]?.loss;
        if (loss !== undefined) {
            sum += loss;
            count += 1;
        }
    }
    return count ? sum / count : 0;
}

function costOf(row, arms) {
    return arms.reduce((sum, number) => sum + (row.answers[number]?.cost ?? 0), 0);
}

/** The numbers of the arms that filters look at: the chosen one, or all that are not hidden. */
export function armsOf(task, state) {
    const hidden = new Set((state.hide ?? "").split(",").filter(Boolean));
    const chosen = task.arms.indexOf(state.arm);
    return chosen >= 0 ? [chosen] : task.arms.flatMap((name, number) => (hidden.has(name) ? [] : [number]));
}

function changed(row, from, to, change) {
    const [before, after] = [isRight(row.answers[from]), isRight(row.answers[to])];
    if (before === undefined || after === undefined) {
        return false;
    }
    if (change === "fixed") {
        return !before && after;
    }
    return change === "broken" ? before && !after : before !== after;
}

/** The cases that fit what is chosen, in the chosen order. */
export function chosenRows(task, state) {
    const arms = armsOf(task, state);
    const tests = [];
    if (state.text) {
        const words = state.text.toLowerCase();
        tests.push((row) => textOf(row).includes(words));
    }
    if (state.label) {
        tests.push((row) => row.label === state.label);
    }
    if (state.status) {
        const status = task.statuses.indexOf(state.status);
        tests.push((row) => arms.some((number) => row.answers[number]?.status === status));
    }
    if (state.cause) {
        const cause = task.causes.indexOf(state.cause);
        tests.push((row) => arms.some((number) => row.answers[number]?.found?.some((one) => one[0] === cause)));
    }
    if (state.outcome) {
        const right = state.outcome === "right";
        tests.push((row) => arms.some((number) => isRight(row.answers[number]) === right));
    }
    if (state.cell) {
        tests.push((row) => arms.some((number) => row.answers[number]?.cell?.join(".") === state.cell));
    }
    if (state.column && state.value) {
        tests.push((row) => columnOf(row, state.column) === state.value);
    }
    if (state.apart) {
        tests.push((row) => row.apart > 0);
    }
    const [from, to] = [task.arms.indexOf(state.from), task.arms.indexOf(state.to)];
    if (from >= 0 && to >= 0) {
        tests.push((row) => changed(row, from, to, state.change));
    }
    const rows = task.rows.filter((row) => tests.every((test) => test(row)));
    return ordered(rows, state.order, arms);
}

function ordered(rows, order, arms) {
    const key = {
        loss: (row) => lossOf(row, arms),
        disagreement: (row) => row.apart ?? 0,
        money: (row) => costOf(row, arms),
    }[order];
    if (!key) {
        return rows;
    }
    const keyed = rows.map((row, number) => [key(row), number, row]);
    keyed.sort((one, other) => other[0] - one[0] || one[1] - other[1]);
    return keyed.map((one) => one[2]);
}
