#!/bin/sh
# Makes umpire-launch.h265: two seconds of the scene, encoded once with a bare H.265 encoder (Debian's x265 3.5),
# so that an H.265 camera needs no encoder at run time. Closed groups of 25 pictures, no B-pictures (a camera
# for live use has none), parameter sets with every keyframe.
set -e
cd "$(dirname "$0")/../../.."
cargo run -q -p choir-sim --example loop_pictures -- umpire-launch 960x540 25 50 |
    x265 --y4m --input - --preset medium --bframes 0 --no-open-gop --keyint 25 --min-keyint 25 --scenecut 0 \
        --repeat-headers --no-info --aud --bitrate 1800 --vbv-maxrate 2200 --vbv-bufsize 2200 --log-level warning \
        --output crates/choir-sim/assets/umpire-launch.h265
