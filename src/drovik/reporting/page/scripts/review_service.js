// What the page asks of the service that it came from; nothing goes anywhere else.

const BASE = location.pathname.replace(/[^/]*$/, "");

async function asked(path, options) {
    const reply = await fetch(BASE + path, { cache: "no-store", ...options });
    const body = reply.headers.get("Content-Type")?.startsWith("application/json") ? await reply.json() : null;
    if (!reply.ok) {
        throw new Error(body?.problem ?? `the service says ${reply.status}`);
    }
    return body;
}

function sent(path, body) {
    return asked(path, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify(body),
    });
}

export const service = {
    state: () => asked("state"),
    item: (number) => asked(`item/${number}`),
    judge: (body) => sent("judge", body),
    undo: () => sent("undo", {}),
    pictureAddress: (number, picture) => `${BASE}picture/${number}/${picture}`,
};
