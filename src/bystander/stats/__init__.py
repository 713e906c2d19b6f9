"""Arrays in, numbers out: the statistical methods, which know nothing of studies or programs."""

from bystander.stats.adjust import benjamini_hochberg, holm, rejections
from bystander.stats.bisection import StepPosterior, failing_step, timed_step
from bystander.stats.ceilings import broken_p, holds_p, trials_for_ceiling
from bystander.stats.contrasts import Contrasts, Examination, estimates, examine, interval, intervals, p_and_e
from bystander.stats.counts import fails_more_p, fails_more_unpaired_p
from bystander.stats.growth import Growth, block_exponents, count_exponent, exponent_of
from bystander.stats.hours import FEWEST_PAIRS, HoursApart, by_pairs, by_reference
from bystander.stats.levels import Levels, between_groups, block_and_trial_spread, levels, samples_that_pay
from bystander.stats.looks import Looks, RowLooks, fixed_look, planned_looks
from bystander.stats.null import Null, rank_sum_null, signed_rank_null
from bystander.stats.phases import alone, covered, enclosing, in_circles, outermost_of_name
from bystander.stats.power import POWER, blocks_for_shift, blocks_to_show, smallest_shown
from bystander.stats.rank_sum import pairwise_contrasts
from bystander.stats.sample import (
    SampleSummary,
    median,
    median_interval,
    quantile,
    quantiles,
    robust_spread,
    summarise,
    summarise_rows,
)
from bystander.stats.sign_flips import Flipped, flip_p, flipped, subset_interval
from bystander.stats.signed_rank import WRITTEN_OUT, blocks_needed, blocks_to_reach, walsh_contrasts
from bystander.stats.soundness import FEWEST_BLOCKS, FIRST_BLOCKS, Soundness, outlying, serial_z, soundness
from bystander.stats.stopped import stopping_bias, student_quantile
from bystander.stats.tails import SHARES, needed_trials, order_cut, quantile_ratios, two_speeds
from bystander.stats.two_groups import apart, regrouped
from bystander.stats.warmup import warm_from
from bystander.stats.whole import SumsRatio, comparable, part_errors, ratio_of_sums, weighted_sum

__all__ = [
    "FEWEST_BLOCKS",
    "FEWEST_PAIRS",
    "FIRST_BLOCKS",
    "POWER",
    "SHARES",
    "WRITTEN_OUT",
    "Contrasts",
    "Examination",
    "Flipped",
    "Growth",
    "HoursApart",
    "Levels",
    "Looks",
    "Null",
    "RowLooks",
    "SampleSummary",
    "Soundness",
    "StepPosterior",
    "SumsRatio",
    "alone",
    "apart",
    "benjamini_hochberg",
    "between_groups",
    "block_and_trial_spread",
    "block_exponents",
    "blocks_for_shift",
    "blocks_needed",
    "blocks_to_reach",
    "blocks_to_show",
    "broken_p",
    "by_pairs",
    "by_reference",
    "comparable",
    "count_exponent",
    "covered",
    "enclosing",
    "estimates",
    "examine",
    "exponent_of",
    "failing_step",
    "fails_more_p",
    "fails_more_unpaired_p",
    "fixed_look",
    "flip_p",
    "flipped",
    "holds_p",
    "holm",
    "in_circles",
    "interval",
    "intervals",
    "levels",
    "median",
    "median_interval",
    "needed_trials",
    "order_cut",
    "outermost_of_name",
    "outlying",
    "p_and_e",
    "pairwise_contrasts",
    "part_errors",
    "planned_looks",
    "quantile",
    "quantile_ratios",
    "quantiles",
    "rank_sum_null",
    "ratio_of_sums",
    "regrouped",
    "rejections",
    "robust_spread",
    "samples_that_pay",
    "serial_z",
    "signed_rank_null",
    "smallest_shown",
    "soundness",
    "stopping_bias",
    "student_quantile",
    "subset_interval",
    "summarise",
    "summarise_rows",
    "timed_step",
    "trials_for_ceiling",
    "two_speeds",
    "walsh_contrasts",
    "warm_from",
    "weighted_sum",
]
