#!/bin/sh
# A CI step with nothing but a shell and curl: starts a preset, waits for its end, keeps the results as JUnit XML and a
# summary in Markdown, and ends as the tests did: 0 passed, 1 tests failed, 3 lab trouble.
#
#   PANE_SERVICE=http://lab.example:7420 PANE_TOKEN=… sh step.sh PRESET
set -eu
preset=${1:?the name of a preset: pane preset save makes one}
lab=${PANE_SERVICE:?address of the service}/api/v1

# The token comes from the standard input, so that no list of processes shows it.
ask() { printf 'header = "Authorization: Bearer %s"\n' "$PANE_TOKEN" | curl --silent --show-error --fail-with-body --retry 5 --config - "$@"; }

number=$(ask --request POST "$lab/presets/$preset/run" | sed -n 's/.*"number": *\([0-9]*\).*/\1/p' | head -n 1)
[ -n "$number" ] || { echo "the preset $preset gave no run" >&2; exit 2; }
echo "Run #$number: $PANE_SERVICE/runs/$number"
trap 'ask --output /dev/null --request POST "$lab/runs/$number/cancel"; exit 130' INT TERM

code=
while [ -z "$code" ]; do
	code=$(ask "$lab/runs/$number/exit?wait=50") || sleep 2 # the connection was lost: the run goes on without
done
ask --output results.xml "$lab/runs/$number/as/junit"
ask --output summary.md "$lab/runs/$number/as/summary"
cat summary.md
exit "$code"
