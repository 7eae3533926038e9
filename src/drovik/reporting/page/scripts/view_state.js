// What is looked at: kept in the address, so that a view can be shared, and the browser's arrows go back.

/** The view of an address: its name, and what is chosen in it. */
export function readState(address) {
    const [path, query] = address.replace(/^#\/?/, "").split("?");
    const view = decoded(path) || "overview";
    return { view, ...Object.fromEntries(new URLSearchParams(query ?? "")) };
}

function decoded(text) {
    try {
        return decodeURIComponent(text);
    } catch {
        return "overview";
    }
}

/** The address of a view; what is not chosen is not in it. */
export function addressOf(state) {
    const { view, ...chosen } = state;
    const query = new URLSearchParams(Object.entries(chosen).filter(([, value]) => value));
    const words = query.toString();
    const path = view === "overview" ? "" : view.split("/").map(encodeURIComponent).join("/");
    return `#/${path}${words ? `?${words}` : ""}`;
}

/** Go to a view; `replace` leaves no step to come back to. */
export function goTo(state, replace = false) {
    const address = addressOf(state);
    if (address === location.hash) {
        return;
    }
    if (replace) {
        history.replaceState(null, "", address);
        dispatchEvent(new HashChangeEvent("hashchange"));
    } else {
        location.hash = address;
    }
}
