// Two texts word by word: what is in one alone, in the other alone, in both.

const MOST_WORDS = 700;

/** Parts of two texts as [kind, text]: "same", "gone" (only expected), "come" (only said); null where they are too long. */
export function wordDifference(expected, said) {
    const [one, other] = [expected, said].map((text) => text.match(/\s+|[\p{L}\p{N}_]+|[^\s\p{L}\p{N}_]/gu) ?? []);
    if (one.length > MOST_WORDS || other.length > MOST_WORDS) {
        return null;
    }
    const lengths = commonLengths(one, other);
    const parts = [];
    let [a, b] = [0, 0];
    while (a < one.length || b < other.length) {
        if (a < one.length && b < other.length && one[a] === other[b]) {
            put(parts, "same", one[a]);
            a += 1;
            b += 1;
        } else if (b >= other.length || (a < one.length && lengths[a + 1][b] >= lengths[a][b + 1])) {
            put(parts, "gone", one[a]);
            a += 1;
        } else {
            put(parts, "come", other[b]);
            b += 1;
        }
    }
    return parts;
}

function commonLengths(one, other) {
    const lengths = Array.from({ length: one.length + 1 }, () => new Uint16Array(other.length + 1));
    for (let a = one.length - 1; a >= 0; a -= 1) {
        for (let b = other.length - 1; b >= 0; b -= 1) {
            lengths[a][b] =
                one[a] === other[b] ? lengths[a + 1][b + 1] + 1 : Math.max(lengths[a + 1][b], lengths[a][b + 1]);
        }
    }
    return lengths;
}

function put(parts, kind, text) {
    const last = parts.at(-1);
    if (last?.[0] === kind) {
        last[1] += text;
    } else {
        parts.push([kind, text]);
    }
}
