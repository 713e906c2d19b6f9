#!/bin/sh
# Does this commit cost time, memory or answers? For a pipeline, or by hand.
#
# usage: sh gate.sh [BASE [FOLDER [OPTION ...]]]     BASE: what it is to be merged into; FOLDER: files for the pipeline
#
# Exit code: 0 no; 3 yes; 1 it could not be done or told, which says nothing of the commit; 2 the study is wrong; 130 cancelled.
base=$(git merge-base "${1:-origin/main}" HEAD) || exit 2
out=${2:-bystander-out}
[ $# -gt 2 ] && shift 2 || set -- --budget "5 min"
mkdir -p "$out" && git tag --force bystander-base "$base" > /dev/null || exit 2
git diff --quiet "$base" -- bystander.toml bystander.settled.toml ||
  echo "note: this commit changes what it is judged by: bystander.toml or bystander.settled.toml" >&2
[ -z "${BYSTANDER_SUMMARY:-}" ] || set -- --summary "$BYSTANDER_SUMMARY" "$@"
exec bystander observe --gate study --quiet --to "$out/review.html" --to "$out/review.md" \
  --to "$out/verdicts.json" --to "$out/junit.xml" "$@"
