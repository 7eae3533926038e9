// Judging an answer part by part: its fields, or its sentences.

import { made, shown } from "./data.js";

const WORDS = {
    fields: { 1: "right", 2: "partly", 3: "wrong" },
    claims: { 1: "true", 2: "false", 3: "unknown" },
};

/** The sentences of a text: they end with a mark and a space, or with the line. */
export function sentencesOf(text) {
    return text
        .split(/(?<=[.!?])\s+|\n+/u)
        .map((one) => one.trim())
        .filter(Boolean);
}

/** Goes through the parts of an answer; `done` is called with what was said of all of them. */
export class Parts {
    constructor(element, kind, parts, done) {
        Object.assign(this, { element, kind, parts, done, said: [] });
        this.draw();
    }

    draw() {
        const words = Object.entries(WORDS[this.kind]).map(([key, word]) => `${key} ${word}`);
        const list = made("ol", "parts");
        this.parts.forEach(([, text], number) => {
            const item = made("li", "", text, this.said[number] ? made("b", "", ` ${this.said[number]}`) : "");
            if (number === this.said.length) {
                item.setAttribute("aria-current", "step");
            }
            list.append(item);
        });
        this.element.replaceChildren(made("p", "also", `${words.join(" · ")} · u one back · Esc leave`), list);
        this.element.hidden = false;
    }

    /** Whether a key was one of these. */
    takes(key) {
        if (key === "Escape") {
            this.close();
            return true;
        }
        if (key === "u") {
            this.said.pop();
        } else if (WORDS[this.kind][key]) {
            this.said.push(WORDS[this.kind][key]);
        } else {
            return false;
        }
        if (this.said.length === this.parts.length) {
            this.close();
            this.done(this.result());
        } else {
            this.draw();
        }
        return true;
    }

    close() {
        this.element.hidden = true;
        this.closed = true;
    }

    /** What was said of the parts, and of the whole: right where all are, wrong where all are. */
    result() {
        const known = this.said.filter((word) => word !== "unknown");
        const are = (good) => known.length > 0 && known.every((word) => good.includes(word));
        const verdict = are(["right", "true"]) ? "right" : are(["wrong", "false"]) ? "wrong" : "partly";
        const pairs = this.parts.map(([key], number) => [key, this.said[number]]);
        return this.kind === "fields" ? { verdict, fields: Object.fromEntries(pairs) } : { verdict, claims: pairs };
    }
}

/** The members of a value as parts: their places, and what is there. */
export function fieldsOf(value) {
    return Object.entries(value).map(([name, one]) => [
        `/${name.replaceAll("~", "~0").replaceAll("/", "~1")}`,
        `${name}: ${shown(one)}`,
    ]);
}
