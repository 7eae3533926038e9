"""Figures of a confusion matrix, each with its definition: agreement, precision and recall, distances, paths.

A matrix has shape (..., labels, labels + 1): expected by answered, the last column "none" for answers that give no
label of the list. Any number of matrices is worked on at once, so that leaving out each of many cases is one call.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from drovik.heavy import np
from drovik.scoring.measure import share

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats


def accuracy(matrix: Floats) -> Floats:
    """Hits over cases."""

    hits: Floats = np.trace(matrix, axis1=-2, axis2=-1)
    return share(hits, matrix.sum(axis=(-2, -1)), 0.0)


def per_label(matrix: Floats) -> tuple[Floats, Floats, Floats]:
    """Precision, recall and F1 of each label, 0 where they are not defined.

    F1 = 2 TP / (2 TP + FP + FN), the harmonic mean of precision and recall (van Rijsbergen,
    Information Retrieval, 1979).

    :return: three arrays of shape (..., labels).
    """

    hits: Floats = np.diagonal(matrix[..., :-1], axis1=-2, axis2=-1)
    answered = matrix[..., :-1].sum(axis=-2)
    expected = matrix.sum(axis=-1)
    return share(hits, answered, 0.0), share(hits, expected, 0.0), share(2 * hits, answered + expected, 0.0)


def balanced_accuracy(matrix: Floats) -> Floats:
    """The mean recall of the labels that are expected (Brodersen et al., ICPR 2010)."""
    expected = matrix.sum(axis=-1) > 0
    return share((per_label(matrix)[1] * expected).sum(axis=-1), expected.sum(axis=-1), 0.0)


def macro_f1(matrix: Floats) -> Floats:
    """The mean F1 over the labels that are expected or answered at least once; "none" is not a label."""
    present = (matrix[..., :-1].sum(axis=-2) + matrix.sum(axis=-1)) > 0
    return share((per_label(matrix)[2] * present).sum(axis=-1), present.sum(axis=-1), 0.0)


def micro_f1(matrix: Floats) -> Floats:
    """F1 of the counts of all labels together; an answer of "none" is a miss and no wrong label."""

    hits: Floats = np.trace(matrix, axis1=-2, axis2=-1)
    answered, expected = matrix[..., :-1].sum(axis=(-2, -1)), matrix.sum(axis=(-2, -1))
    return share(2 * hits, answered + expected, 0.0)


def weighted_f1(matrix: Floats) -> Floats:
    """The mean F1 of the labels, each as often as it is expected."""
    expected = matrix.sum(axis=-1)
    return share((per_label(matrix)[2] * expected).sum(axis=-1), expected.sum(axis=-1), 0.0)


def _square(matrix: Floats) -> Floats:
    """The matrix with a row "none", which is never expected."""

    return np.concatenate([matrix, np.zeros((*matrix.shape[:-2], 1, matrix.shape[-1]))], axis=-2)


def matthews(matrix: Floats) -> Floats:
    """Matthews correlation for several labels, -1 to 1 (J. Gorodkin, Comput. Biol. Chem. 28, 2004, eq. 8).

    0 where all that is expected, or all that is answered, is one label.
    """

    square = _square(matrix)
    hits, size = np.trace(square, axis1=-2, axis2=-1), square.sum(axis=(-2, -1))
    expected, answered = square.sum(axis=-1), square.sum(axis=-2)
    covariance = hits * size - (expected * answered).sum(axis=-1)
    spread = (size**2 - (answered**2).sum(axis=-1)) * (size**2 - (expected**2).sum(axis=-1))
    return share(covariance, np.sqrt(np.maximum(spread, 0.0)), 0.0)


def kappa(matrix: Floats, weights: Floats | None = None) -> Floats:
    """Cohen's kappa, -1 to 1: agreement beyond chance (J. Cohen, Educ. Psychol. Meas. 20, 1960).

    With weights it is the weighted one (J. Cohen, Psychol. Bull. 70, 1968): 1 - observed over expected disagreement.
    "none" is a category of its own. Where chance alone agrees wholly, so do all, and it is 1.

    :param weights: shape (labels + 1, labels + 1), how far apart two categories are; left out: 0 or 1.
    """

    square = _square(matrix)
    size = square.shape[-1]
    apart = 1.0 - np.eye(size) if weights is None else weights
    total = square.sum(axis=(-2, -1))
    observed = (square * apart).sum(axis=(-2, -1))
    by_chance = (square.sum(axis=-1)[..., :, None] * square.sum(axis=-2)[..., None, :] * apart).sum(axis=(-2, -1))
    return 1.0 - share(observed * total, by_chance, 0.0)


def ordinal_weights(labels: int, power: int) -> Floats:
    """How far apart ordered labels are, as kappa weighs it: steps to a power; "none" is farther than any label."""

    ranks = np.arange(labels + 1, dtype=np.float64)
    apart: Floats = np.abs(ranks[:, None] - ranks[None, :])
    apart[:labels, labels] = apart[labels, :labels] = labels
    return apart**power


def mean_ordinal_error(matrix: Floats) -> Floats:
    """How many steps an answer is off in the mean; "none" counts as far as the far end."""

    labels = matrix.shape[-2]
    ranks = np.arange(labels, dtype=np.float64)
    apart = np.abs(ranks[:, None] - ranks[None, :])
    off = np.concatenate([apart, np.maximum(ranks, labels - 1 - ranks)[:, None]], axis=1)
    return share((matrix * off).sum(axis=(-2, -1)), matrix.sum(axis=(-2, -1)), 0.0)


def ordinal_closeness(matrix: Floats) -> Floats:
    """1 less the mean of steps off over the farthest that the expected label can be missed by; "none" is 0."""

    labels = matrix.shape[-2]
    ranks = np.arange(labels, dtype=np.float64)
    farthest = np.maximum(np.maximum(ranks, labels - 1 - ranks), 1.0)[:, None]
    apart = np.abs(ranks[:, None] - ranks[None, :])
    near = np.concatenate([1.0 - apart / farthest, np.zeros((labels, 1))], axis=1)
    return share((matrix * near).sum(axis=(-2, -1)), matrix.sum(axis=(-2, -1)), 0.0)


def path_counts(labels: Sequence[str], parts: str) -> tuple[Floats, Floats, Floats]:
    """For labels that are paths: by pair, the steps from the root in common, and those of each.

    :return: common (labels, labels + 1), expected (labels,), answered (labels + 1,).
    """

    paths = [label.split(parts) for label in labels]
    common = np.zeros((len(labels), len(labels) + 1))
    for row, one in enumerate(paths):
        for column, other in enumerate(paths):
            same = [a == b for a, b in zip(one, other, strict=False)]
            common[row, column] = same.index(False) if False in same else len(same)
    lengths = np.array([float(len(one)) for one in paths])
    return common, lengths, np.append(lengths, 0.0)


def path_scores(matrix: Floats, counts: tuple[Floats, Floats, Floats]) -> tuple[Floats, Floats, Floats]:
    """Hierarchical precision, recall and F1 (Kiritchenko, Matwin, Famili, BioLINK 2005): of steps, not of labels.

    :param counts: what `path_counts` gave.
    """
    common, expected, answered = counts
    shared = (matrix * common).sum(axis=(-2, -1))
    wanted = (matrix.sum(axis=-1) * expected).sum(axis=-1)
    said = (matrix.sum(axis=-2) * answered).sum(axis=-1)
    return share(shared, said, 0.0), share(shared, wanted, 0.0), share(2 * shared, wanted + said, 0.0)
