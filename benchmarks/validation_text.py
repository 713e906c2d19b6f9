"""The page and the picture of the validation."""

from __future__ import annotations

import math

__all__ = ["TEXT", "picture", "share"]

TEXT = """# Validation

How often is Bystander wrong, how much does it see, and how do you know? Leads of inspections have [a page of their
own](validation-leads.md), [how places grow](validation-growth.md), and [chains and
searches](validation-chains.md), and [what is shown once](validation-shown.md). All below was measured by `python
benchmarks/validate.py` through the function that `bystander decide` decides with, on noise of seven kinds and on real
trials of one code in both arms ({stretches} stretches of 25 blocks of four programs on a busy machine,
`tests/data/same_code.csv`). Seed {seed}; {took}. Behind a share stands its standard error. Of so many cells one or
two lie more than two standard errors off by luck.

## Nothing changed: how often is a program called changed?
![bars](validation.svg)

Noise of CV 5 %, in the order in which trials run; every way sees the same 50 trials, of which looks may leave some
out.

{alarms}

## Suites
At most 40 blocks, looks, risk 5 %. What is promised is a mean false share of a suite of at most 5 %, where one
that shows nothing counts 0. When nothing changed every row shown is false, so that at most 5 % of suites may show any.

{suites}

## What is seen, and in how many blocks
One workload, normal noise, margin 1 %, risk 5 %, at most 40 blocks: how often the change is shown, and the blocks
used on average.

{power}

## How close to the bound
With normal noise of known spread and one known size of change no test of the same errors takes fewer blocks on
average than Wald's sequential test (1947). Bystander knows neither. One workload, at most 40 blocks, no margin; the
bound is for the share found, with 2.5 % to either side. Where it misses half of the changes, so would Wald's test, and
soon: it gives up where nothing is likely to come. Bystander goes on to the last block, as an unclear row is the more
precise for it.

{distance}

## Intervals after stopping, and "same"
One workload of at most 40 blocks, CV 5 %, margin 1 %: how often the interval at 95 % holds the true change. Rows that
are shown to be the same have an interval of another level, and are left out. Then unchanged, CV 2 %, margin 3 %.

{coverage}

## All workloads together
How often the interval at 95 % of the whole load holds the true change, with weights of 1 to 20; at most 40 blocks, CV
5 %, margin 3 %. At first all workloads got 6 % slower, which is the worst case for looks: every estimate is then off to
the same side. With normal noise, 100 such workloads and the estimates as they are, the interval would hold in every
second suite. Plain sums are freed of that too, and their interval knows nothing else of looks.

{wholes}

## Ceilings
One arm, at a risk of 5 %: how often a ceiling is called held, or broken, and after how many trials. At the limit, where
just so many trials are beyond as may be, either is wrong. That the error is at most the risk is exact for independent
trials. Real trials that follow each other are not: a quiet minute passes for a program that holds. They are found to
depend on each other, are told as "in these minutes" and are left out by a gate.

{ceilings}

## Did what was foretold come true?
`check` foretells, from 8 blocks of the reference against itself (CV 5 %), the smallest change that 8 of 10 studies of
40 blocks show (margin 0.1 %, so that no small change is called the same), and the blocks that show 6 % (margin 3 %); an
unclear row of 12 blocks foretells the blocks that show its margin of 3 %. Then a new study was run with that change and
those blocks; 80 % would be as foretold. At most 300 blocks were run.

{foretold}

## What does sharing out a budget gain?
Suites of 12 workloads, noise 2 to 10 % and trials of 0.1 to 5 s, both log-uniform and independent, normal; a time in
which so many blocks of each would fit. Half the width of the widest interval at 95 %, as `--budget` shares the time
out, against equal blocks (geometric means); what trial blocks take is taken from the time shared out. With an earlier
record of 40 blocks the noise is known better; from trial blocks alone a short time is shared by little more than
chance.

{budget}
"""


def share(hits: float, of: int) -> str:
    """Write a share in percent with its standard error."""
    p = hits / of
    return f"{100 * p:.1f} % (± {100 * math.sqrt(max(p * (1 - p), 0.25 / of) / of):.1f})"


def picture(on_real: dict[str, float]) -> str:
    """Return bars: how often each way calls an unchanged program changed, on real trials."""
    rows, y = [], 64
    for way, value in on_real.items():
        ours = "Bystander" in way
        label = way.replace("*", "").replace("`", "").replace("&", "&amp;").replace("<", "&lt;")
        colour, weight = ("#1f6feb", ' font-weight="bold"') if ours else ("#6b7280", "")
        rows.append(
            f'<text x="470" y="{y + 15}" text-anchor="end"{weight}>{label}</text>'
            f'<rect x="484" y="{y}" width="{max(1.5, 340 * value):.1f}" height="20" fill="{colour}"/>'
            f'<text x="{492 + 340 * value:.1f}" y="{y + 15}"{weight}>{100 * value:.1f} %</text>'
        )
        y += 34
    head = "Nothing changed, yet the program is called changed"
    note = "real trials of one code on a busy machine; at most 5 % would be as promised (the upright line)"
    line = f'<line x1="{484 + 17}" x2="{484 + 17}" y1="56" y2="{y}" stroke="#d9730d" stroke-dasharray="4 3"/>'
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 900 {y + 16}" width="900" font-size="13" '
        f'font-family="Georgia, \'DejaVu Serif\', serif" fill="#1c2430">'
        f'<rect width="900" height="{y + 16}" fill="#ffffff"/>'
        f'<text x="16" y="26" font-size="17" font-weight="bold">{head}</text>'
        f'<text x="16" y="46" fill="#5b6675">{note}</text>{line}{"".join(rows)}</svg>\n'
    )
