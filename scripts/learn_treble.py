# SPDX-License-Identifier: GPL-3.0-or-later
"""Learns the net of Dull voice from recorded words: python scripts/learn_treble.py FOLDER [LANGUAGE ...].

FOLDER holds recorded words in folders per language (such as Debian's klettres-data, see
benchmarks/quality/speech.py); the languages of the quality measurements are left out of the learning and
used for the check. Writes src/pulizia/data/treble.npz. Wants scikit-learn; fixed seeds.
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "2")

import sys
from pathlib import Path

import numpy as np
from sklearn.neural_network import MLPRegressor

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks" / "quality"))
from speech import LANGUAGES, phrase, source_of

from pulizia.dsp.stft import analyse
from pulizia.measure.bandwidth import bandwidth_of
from pulizia.models import treble_net as net

SIZE, HOP = 1024, 512
OTHERS = ("ar", "cs", "es", "fr", "he", "hu", "it", "lt", "ml", "nb", "nds", "nl", "pt_BR", "ru", "tn", "uk")
LISTENED_S = 110.0
ROUNDS = 4  # each with other cuts and other noise
TARGET = Path(__file__).parent.parent / "src" / "pulizia" / "data" / "treble.npz"


def moments(folder: Path, language: str, seed: int) -> tuple[np.ndarray, np.ndarray] | None:
    """(frames, bands) of what is heard and of what is wanted, in dB relative to the voice's means; None for dull voices."""
    rng = np.random.default_rng(seed)
    voice = phrase(folder, language, seed, LISTENED_S)
    voice += rng.normal(0, 10 ** (rng.uniform(-80, -55) / 20), len(voice))
    source = source_of(voice)
    found = bandwidth_of(source, SIZE)
    if found is None or found.top_hz < 9000.0:
        print(f"{language}: ends at {0 if found is None else found.top_hz:.0f} Hz, not used")
        return None
    power = np.abs(analyse(voice.astype(np.float32), SIZE, HOP)) ** 2
    scale = 0.5 / 0.375
    heard = net.relative_db(power, found.speech * scale, found.pause * scale, found.hz, net.HEARD_HZ)
    made = net.relative_db(power, found.speech * scale, found.pause * scale, found.hz, net.MADE_HZ)
    return heard, made


def examples(folder: Path, languages: tuple[str, ...], rounds: int) -> tuple[np.ndarray, np.ndarray]:
    """Inputs and targets over all voices, with cuts anywhere."""
    inputs, targets = [], []
    for n in range(rounds):
        for m, language in enumerate(languages):
            pair = moments(folder, language, 1 + n)
            if pair is None:
                continue
            heard, made = pair
            cuts = np.random.default_rng(100 * n + m).choice(net.HEARD_HZ[9:] * 2 ** (1 / 6), 3, replace=False)
            for cut in cuts:
                x = net.inputs(heard, cut)
                speaking = heard[:, :12].max(axis=1) > -30.0
                inputs.append(x[speaking].astype(np.float32))
                targets.append(made[speaking].astype(np.float32))
    return np.concatenate(inputs), np.concatenate(targets)


def main() -> None:
    """Learn, check, write."""
    folder = Path(sys.argv[1])
    x, y = examples(folder, tuple(sys.argv[2:]) or OTHERS, ROUNDS)
    print(f"{len(x)} moments of {x.shape[1]} figures")
    learner = MLPRegressor(
        hidden_layer_sizes=(48,),
        activation="tanh",
        alpha=1e-3,
        batch_size=512,
        max_iter=25,
        random_state=1,
        early_stopping=True,
    )
    learner.fit(x, y)
    for language in LANGUAGES:
        pair = moments(folder, language, 1)
        if pair is None:
            continue
        heard, made = pair
        speaking = heard[:, :12].max(axis=1) > -30.0
        for cut in (2245.0, 2828.0, 3564.0, 4490.0):
            away = learner.predict(net.inputs(heard, cut)) - made
            print(
                language,
                cut,
                "left over in dB",
                np.round(away[speaking].std(axis=0), 1),
                "beside",
                np.round(made[speaking].std(axis=0), 1),
            )
    weights = {
        f"{name}{n}": part.astype(np.float16)
        for name, parts in (("w", learner.coefs_), ("b", learner.intercepts_))
        for n, part in enumerate(parts)
    }
    np.savez_compressed(TARGET, **weights)
    print(f"{TARGET.name}: {TARGET.stat().st_size} bytes")


if __name__ == "__main__":
    main()
