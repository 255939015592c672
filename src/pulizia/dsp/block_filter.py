# SPDX-License-Identifier: GPL-3.0-or-later
"""A recursive filter applied as matrix products, block by block.

Over a block of N samples a recursive filter is linear in its input and in its state at the block's
start: ``y = T x + C s`` and ``s' = A s + B x``. T is applied to all blocks at once in float32, the
states follow from a doubling scan in float64 that stops when A^(2^k) has died away.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

DEAD = 1e-18  # a power of A below this no longer changes a float64 state


@dataclass(frozen=True, slots=True)
class BlockFilter:
    """Matrices of a cascade of second-order sections for blocks of ``block`` samples."""

    block: int
    forward: NDArray[np.float32]  # T transposed, (block, block)
    from_state: NDArray[np.float32]  # C transposed, (states, block)
    into_state: NDArray[np.float32]  # B transposed, (block, states)
    powers: tuple[NDArray[np.float64], ...]  # (A^(2^k)) transposed

    @classmethod
    def of_sections(cls, sections: NDArray[np.float64], block: int) -> BlockFilter:
        """Build from second-order sections, rows b0 b1 b2 a0 a1 a2 with a0 = 1."""
        states = 2 * len(sections)
        responses, ends = [], []
        for start in range(states):
            state = np.zeros(states)
            state[start] = 1.0
            y, end = _run(sections, np.zeros(block), state)
            responses.append(y)
            ends.append(end)
        impulse, _ = _run(sections, np.eye(1, block)[0], np.zeros(states))
        forward = np.zeros((block, block))
        into = np.zeros((block, states))
        for n in range(block):
            forward[n, n:] = impulse[: block - n]
            _, into[n] = _run(sections, np.eye(1, block, n)[0], np.zeros(states))
        powers = [np.array(ends)]
        while np.abs(powers[-1]).max() > DEAD and len(powers) < 40:
            powers.append(powers[-1] @ powers[-1])
        return cls(
            block,
            forward.astype(np.float32),
            np.array(responses, dtype=np.float32),
            into.astype(np.float32),
            tuple(powers),
        )

    def apply(self, samples: NDArray[np.float32]) -> NDArray[np.float32]:
        """Filter (channels, blocks * block) samples from a state of rest; same shape comes out."""
        channels = samples.shape[0]
        x = samples.reshape(-1, self.block)
        gained = (x @ self.into_state).astype(np.float64)
        gained = gained.reshape(channels, -1, gained.shape[1])
        states = np.zeros_like(gained)
        states[:, 1:] = gained[:, :-1]
        shift = 1
        for power in self.powers:
            if shift >= states.shape[1]:
                break
            states[:, shift:] += states[:, :-shift] @ power
            shift *= 2
        y = x @ self.forward
        y += states.reshape(-1, states.shape[2]).astype(np.float32) @ self.from_state
        return y.reshape(samples.shape)


def _run(
    sections: NDArray[np.float64], x: NDArray[np.float64], state: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Transposed direct form II, sample by sample: only ever used to build the matrices."""
    y = x.copy()
    state = state.copy()
    for index, (b0, b1, b2, _, a1, a2) in enumerate(sections):
        s1, s2 = state[2 * index], state[2 * index + 1]
        for n, value in enumerate(y):
            out = b0 * value + s1
            s1 = b1 * value - a1 * out + s2
            s2 = b2 * value - a2 * out
            y[n] = out
        state[2 * index], state[2 * index + 1] = s1, s2
    return y, state
