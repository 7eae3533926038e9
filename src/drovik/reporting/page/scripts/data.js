// The page's data: one JSON block, as `case_rows.py` makes it.

const block = document.getElementById("data");
export const page = JSON.parse(block.textContent);
block.remove();

export const tasks = new Map(page.tasks.map((task) => [task.name, task]));

// Characters that nobody would see are spelled out, as everywhere in Drovik: a text may turn the line round.
const UNSEEN =
    /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb\ud800-\udfff]/gu;

/** Text in which every such character stands as its code point. */
export function visible(text) {
    return String(text)
        .replaceAll("\r\n", "\n")
        .replace(UNSEEN, (one) => `\\u{${one.codePointAt(0).toString(16)}}`);
}

/** A value as JSON, or a text as it is. */
export function shown(value) {
    return visible(typeof value === "string" ? value : JSON.stringify(value));
}

/** An element with a class, and children that are elements or text; text is never markup. */
export function made(tag, name = "", ...children) {
    const element = document.createElement(tag);
    if (name) {
        element.className = name;
    }
    for (const child of children) {
        element.append(typeof child === "string" ? visible(child) : child);
    }
    return element;
}

/** What an answer says, as a value: read from its text, unless the page has it apart. */
export function valueOf(task, answer) {
    if (task.form === "text") {
        return answer.text;
    }
    if (answer.value !== undefined) {
        return answer.value;
    }
    try {
        return JSON.parse(answer.text);
    } catch {
        return answer.text;
    }
}

/** Whether an answer is fully right; undefined where it has no score. */
export function isRight(answer) {
    return answer && answer.loss !== undefined ? answer.loss <= 0 : undefined;
}
