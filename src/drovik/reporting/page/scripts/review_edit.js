// Correcting an answer in place: a field for each member, or one for the whole text.

import { made } from "./data.js";

function isPlain(value) {
    return value === null || typeof value !== "object";
}

function field(name, value, long) {
    const input = made(long ? "textarea" : "input");
    input.name = name;
    input.value = typeof value === "string" ? value : JSON.stringify(value);
    input.dataset.text = String(typeof value === "string");
    if (long) {
        input.rows = Math.min(12, input.value.split("\n").length + 2);
    }
    return made("label", "", made("span", "", name), input);
}

/** Fill a form with fields of a value. */
export function showEdit(form, value) {
    const isObject = !isPlain(value) && !Array.isArray(value);
    const members = isObject ? Object.entries(value) : [["answer", value]];
    form.dataset.whole = String(!isObject);
    const save = made("button", "", "keep the correction (Ctrl+Enter)");
    save.type = "submit";
    form.replaceChildren(...members.map(([name, one]) => field(name, one, !isPlain(one) || !isObject)), save);
    form.hidden = false;
    form.querySelector("input, textarea").focus();
}

function valueOf(input) {
    // What was a text stays one; a number, a list and the like are written as JSON, and a word that is none as text.
    if (input.dataset.text === "true") {
        return input.value;
    }
    try {
        return JSON.parse(input.value);
    } catch {
        return input.value;
    }
}

/** What a form's fields say. */
export function editedValue(form) {
    const inputs = [...form.querySelectorAll("input, textarea")];
    if (form.dataset.whole === "true") {
        return valueOf(inputs[0]);
    }
    return Object.fromEntries(inputs.map((input) => [input.name, valueOf(input)]));
}

/** A value with one place more, at the pointer where the task's answers have their places. */
export function withPlace(value, places, place) {
    const copy = structuredClone(value ?? {});
    const put = (whole, pointer, one) => {
        const steps = pointer.split("/").slice(1);
        if (!steps.length) {
            return one;
        }
        let at = whole;
        for (const step of steps.slice(0, -1)) {
            at = at[step] ??= {};
        }
        at[steps.at(-1)] = one;
        return whole;
    };
    const get = (whole, pointer) =>
        pointer
            .split("/")
            .slice(1)
            .reduce((at, step) => at?.[step], whole);
    const list = get(copy, places.at);
    let element = put({}, places.place, place);
    if (places.label) {
        element = put(element, places.label, "");
    }
    const longer = [...(Array.isArray(list) ? list : []), element];
    return put(copy, places.at, longer);
}
