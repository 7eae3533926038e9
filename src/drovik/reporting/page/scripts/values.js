// Values as lists of their members, with those marked that a finding or an error is about.

import { made, shown, visible } from "./data.js";
import { wordDifference } from "./word_difference.js";

const MOST_MEMBERS = 60;

/** The members of a value by their place: nested ones flattened, as far as anybody would read. */
function members(value, place = "", found = []) {
    if (found.length > MOST_MEMBERS) {
        return found;
    }
    const isList = Array.isArray(value);
    const plain =
        value === null ||
        typeof value !== "object" ||
        (isList && value.every((one) => one === null || typeof one !== "object"));
    if (plain) {
        found.push([place, value]);
        return found;
    }
    for (const [name, one] of Object.entries(value)) {
        members(one, `${place}/${name.replaceAll("~", "~0").replaceAll("/", "~1")}`, found);
    }
    return found;
}

/** A list of a value's members; `marked` are places that differ. */
export function memberList(value, marked = new Set()) {
    const list = made("dl");
    const found = members(value);
    for (const [place, one] of found.slice(0, MOST_MEMBERS)) {
        const name = place.replace(/^\//, "").replaceAll("~1", "/").replaceAll("~0", "~");
        // Of a list of things it is a few that differ, which the findings name; of a place with one member, that one.
        const under = (at) => found.filter((other) => other[0].startsWith(`${at}/`)).length === 1;
        const differs = [...marked].some((at) => at === place || (place.startsWith(`${at}/`) && under(at)));
        const told = made(
            "dd",
            differs ? "differs" : "",
            Array.isArray(one) ? one.map(shown).join(", ") || "none" : shown(one),
        );
        if (differs) {
            told.append(made("span", "unseen", " (differs)"));
        }
        list.append(made("dt", "", name || "answer"), told);
    }
    if (found.length > MOST_MEMBERS) {
        list.append(made("dt", "", "…"), made("dd", "", "more: drovik show"));
    }
    return list;
}

/** A text beside the expected one, word by word. */
export function markedText(expected, said) {
    const parts = typeof expected === "string" ? wordDifference(visible(expected), visible(said)) : null;
    const block = made("pre");
    if (parts === null) {
        block.append(visible(said));
        return block;
    }
    for (const [kind, text] of parts) {
        block.append(kind === "same" ? text : made(kind === "gone" ? "del" : "ins", "", text));
    }
    return block;
}
