#!/bin/sh
# Plays the crowd {{.Crowd}} in {{.Parts}} parts, and then judges them as one run.
set -eu
cd "$(dirname "$0")"
mkdir -p {{sh .Out}}
array=$(sbatch --parsable play.sbatch)
array=${array%%;*}
sbatch --dependency="afterany:$array" judge.sbatch "$array"
echo "The parts are the array $array. The run folder will be {{.Out}}/{{.Crowd}}-$array-…"
