"""Measuring: figures over many messages of each device.

A subject is measured in two steps. An accumulator takes messages as they come; it is of a bounded
size, and merges with others in any order to the same. A function makes figures of accumulators.

| subject | accumulator | figures |
|---|---|---|
| silence | `times.Times` | `silence.silences` |
| clocks | `pairs.Pairs` | `clocks.clock_of` |
| losses | `numbers.Numbers` | `losses.losses_of` |
| volume | `sizes.Sizes` | `volume.volumes` |
"""
