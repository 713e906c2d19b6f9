"""What could have fooled a row is found where it is there, and hardly ever where it is not."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import pytest
from builders import made_record, noisy
from scipy import stats as authority

from bystander.design import ORDERS
from bystander.stats import Soundness, soundness
from bystander.stats.soundness import _correlation_z, _ranks, _serial_z
from bystander.verdicts import decide

Sides = tuple[np.ndarray, np.ndarray]
LUCK = 0.001


def quiet(rng: np.random.Generator, rows: int, n: int) -> Iterator[tuple[str, Sides]]:
    """Yield noise of several shapes, alike in both arms and exchangeable between blocks."""
    shape, time = (rows, n), np.linspace(0, 1, n)
    common = np.cumsum(rng.normal(0, 0.05, shape), axis=1) + rng.normal(0, 0.3, (rows, 1)) * time
    uneven = np.exp(rng.normal(0, 0.5, shape))
    draws: dict[str, Callable[[], np.ndarray]] = {
        "normal": lambda: rng.normal(0, 0.02, shape),
        "heavy": lambda: 0.02 * rng.standard_t(3, shape),
        "skewed": lambda: 0.02 * np.exp(rng.normal(0, 1, shape)),
        "two modes": lambda: rng.normal(0, 0.01, shape) + 0.2 * (rng.random(shape) < 0.3),
        "drift of both": lambda: common + rng.normal(0, 0.02, shape),
        "uneven": lambda: uneven * rng.normal(0, 0.02, shape),
    }
    for name, draw in draws.items():
        yield name, (draw(), draw())


def checked(sides: Sides, rng: np.random.Generator) -> Soundness:
    """Look at rows whose order in the block is drawn by chance."""
    return soundness(*sides, rng.random(sides[0].shape) < 0.5)


@pytest.mark.parametrize("n", [12, 20, 40])
def test_hardly_ever_by_luck(n: int) -> None:
    """Under every noise model each sign is found in at most one row of a thousand, but for chance in 20,000 rows."""
    rng = np.random.default_rng(8)
    rows = 20_000
    most = LUCK * rows + 3 * np.sqrt(LUCK * rows)
    for name, sides in quiet(rng, rows, n):
        seen = checked(sides, rng)
        for sign in ("drifts", "starts_apart", "order_matters", "depends", "noisier", "few_values"):
            assert np.count_nonzero(getattr(seen, sign)) <= most, (name, sign)
        if name == "normal":
            assert np.count_nonzero(seen.outlying.any(axis=1)) <= 0.004 * rows


def planted(sign: str, rng: np.random.Generator, rows: int, n: int) -> tuple[Sides, np.ndarray]:
    """Return normal noise with one thing wrong, three standard deviations of it, and who ran first."""
    a, b, time = rng.normal(0, 1, (rows, n)), rng.normal(0, 1, (rows, n)), np.arange(n)
    first = rng.random((rows, n)) < 0.5
    if sign == "drifts":
        b = b + 5 * time / n
    elif sign == "starts_apart":
        b = b + 4 * (time < 5)
    elif sign == "order_matters":
        b = b + 3 * first
    elif sign == "depends":
        noise = rng.normal(0, 1, (rows, n))
        for i in range(1, n):
            noise[:, i] += 0.9 * noise[:, i - 1]
        b = b + 3 * noise
    elif sign == "noisier":
        b = 6 * b
    elif sign == "few_values":
        a, b = np.round(a), np.round(b)
    return (a, b), first


@pytest.mark.parametrize("sign", ["drifts", "starts_apart", "order_matters", "depends", "noisier", "few_values"])
def test_what_is_there_is_found(sign: str) -> None:
    """With 40 blocks in at least nine rows of ten, on its own sign."""
    rng = np.random.default_rng(9)
    sides, first = planted(sign, rng, 400, 40)
    found = getattr(soundness(*sides, first), sign)

    assert np.count_nonzero(found) > 360
    if sign == "noisier":
        assert (found >= 0).all()
        assert (soundness(sides[1], sides[0], ~first).noisier <= 0).all()


def test_an_outlying_block_is_named() -> None:
    """Only the block that is far away."""
    rng = np.random.default_rng(10)
    a, b = rng.normal(0, 1, (1, 30)), rng.normal(0, 1, (1, 30))
    b[0, 17] += 60

    assert np.flatnonzero(checked((a, b), rng).outlying[0]).tolist() == [17]


def test_ranks_and_correlations_agree_with_an_authority() -> None:
    """Mean ranks of ties, Spearman's coefficient, and the moments of the serial product by drawing them."""
    rng = np.random.default_rng(11)
    values = rng.integers(0, 8, (50, 23)).astype(float)
    other = rng.normal(0, 1, (50, 23))
    for row, ranks in zip(values, _ranks(values), strict=True):
        assert np.array_equal(ranks + 1, authority.rankdata(row))
    z = _correlation_z(_ranks(values), _ranks(other))
    for row, far, one in zip(values, other, z, strict=True):
        assert one == pytest.approx(authority.spearmanr(row, far).statistic * np.sqrt(22), rel=1e-10)
    drawn = _serial_z(_ranks(rng.random((60_000, 15))))
    assert drawn.mean() == pytest.approx(0, abs=0.02)
    assert drawn.var() == pytest.approx(1, abs=0.03)


@pytest.mark.parametrize(
    ("sign", "code", "words"),
    [
        ("drifts", "drifts", "changes in the course"),
        ("starts_apart", "first-blocks-differ", "The first 5 blocks differ"),
        ("order_matters", "order-matters", "Which arm ran first"),
        ("depends", "blocks-depend", "resemble the ones before"),
        ("noisier", "one-arm-noisier", "readings of after scatter more than those of before"),
    ],
)
def test_it_is_said_in_a_plain_sentence(sign: str, code: str, words: str) -> None:
    """On the row of the study's measure, whatever the verdict."""
    rng, n = np.random.default_rng(12), 40
    first = np.array([[ORDERS["permutation"](1, "w", block, ("before", "after"))[0] == 1 for block in range(n)]])
    (a, b), _ = planted(sign, rng, 1, n)
    if sign == "order_matters":
        b = rng.normal(0, 1, (1, n)) + 5 * first
    times = {"before": np.exp(0.02 * a[0]).tolist(), "after": np.exp(0.02 * b[0]).tolist()}
    notes = {note.code: note.text for note in decide(made_record({"w": times})).primary[0].notes}

    assert words in notes[code]


def test_nothing_is_said_of_failures_and_of_few_blocks() -> None:
    """A failed trial has no rank; eleven blocks tell nothing."""
    codes = {"drifts", "first-blocks-differ", "order-matters", "blocks-depend", "one-arm-noisier", "few-values"}
    few = made_record({"w": {"before": [0.1] * 11, "after": [0.1] * 11}})
    failed = made_record({"w": {"before": [0.1] * 20, "after": [0.1] * 20}}, failed={("w", "after"): [3]})
    whole = made_record({"w": {"before": [0.1] * 20, "after": [0.1] * 20}})
    counts = made_record({"w": {"before": [3.0] * 20, "after": [3.0] * 20}}, measure="major_faults")
    far = noisy(20, 0.1, 0.001, 1)
    far[6] = 0.3

    assert not codes & {note.code for record in (few, failed) for note in decide(record).primary[0].notes}
    assert "few-values" in {note.code for note in decide(whole).primary[0].notes}
    assert "few-values" not in {note.code for note in decide(counts).primary[0].notes}
    row = decide(made_record({"w": {"before": noisy(20, 0.1, 0.001, 2), "after": far}})).primary[0]
    assert any("Block 6 lies far from the others" in note.text for note in row.notes)
