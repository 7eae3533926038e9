// The keys, and the list of them.

import { made } from "./data.js";

export const KEYS = [
    ["j or ↓", "next case"],
    ["k or ↑", "case before"],
    ["1 to 9", "hide or show an arm"],
    ["+ and −", "zoom the picture"],
    ["0", "the whole picture"],
    ["/", "search"],
    ["o", "overview"],
    ["c", "cases"],
    ["d", "dark or light"],
    ["?", "this list"],
];

/** Fill the dialog that lists the keys. */
export function fillKeys(dialog) {
    const title = made("h2", "", "Keys");
    title.id = "keys-title";
    const list = made("dl");
    for (const [key, what] of KEYS) {
        list.append(made("dt", "", made("kbd", "", key)), made("dd", "", what));
    }
    const close = made("button", "", "close");
    close.type = "button";
    close.addEventListener("click", () => dialog.close());
    dialog.append(title, list, close);
}

/** Whether somebody is typing, so that letters are no commands. */
export function isTyping(target) {
    return (
        target instanceof HTMLElement &&
        (["INPUT", "TEXTAREA"].includes(target.tagName) ? target.type !== "checkbox" : target.tagName === "SELECT")
    );
}
