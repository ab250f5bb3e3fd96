"""Two surveys inverted together: each model fits its own readings, and both are asked to change in the same places."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...errors import ConvergenceError
from ...geometry.mesh import Mesh
from ...progress import SILENT, Progress
from .inversion import Constraints, Inversion, Problem, Settings, outcome, smooth
from .linear import Operator
from .structure import CrossGradient

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Survey:
    """One of the surveys: its operator, data and noise (n,), how it is held and what is known; see `invert`."""

    kernel: Operator
    data: FloatArray
    noise: FloatArray
    settings: Settings
    known: Constraints
    trend: FloatArray | None = None


def invert_together(
    surveys: Sequence[Survey],
    mesh: Mesh,
    active: NDArray[np.bool_],
    coupling: float = 1.0,
    rounds: int = 5,
    progress: Progress = SILENT,
) -> list[Inversion]:
    """Invert two surveys on the same cells, coupled by their cross-gradient.

    Parameters
    ----------
    coupling
        Weight of the cross-gradient against the roughness of each model as it was found alone; 0 couples nothing.
    rounds
        How often each model is fitted to the other; each holds its misfit.
    progress
        Gets ``iteration``, ``misfit`` (the worse of the two) and ``target``.

    Raises
    ------
    InputError, ConvergenceError
        As `invert`.
    """
    problems = [Problem(s.kernel, s.data, s.noise, mesh, active, s.settings, s.known, s.trend) for s in surveys]
    histories: list[list[tuple[int, float, float, float]]] = [[], []]
    betas = []
    for number, (problem, survey) in enumerate(zip(problems, surveys, strict=True)):
        floor = float(problem.b @ problem.b) / len(problem.b)
        if floor <= survey.settings.target:
            raise ConvergenceError(
                "the data of one survey are already within the noise", fix="Lower its noise, or leave it out"
            )

        def told(chi2: float, beta: float, size: float, share: float, number: int = number) -> bool:
            histories[number].append((len(histories[number]) + 1, beta, chi2, size))
            part = 0.3 * (number + share)
            progress(
                part,
                "Each alone",
                iteration=len(histories[number]),
                misfit=chi2,
                target=surveys[number].settings.target,
            )
            return progress.enough

        smooth(problem, survey.settings, floor, told)
        betas.append(histories[number][-1][1])
    links = [CrossGradient(mesh, active, problem.w) for problem in problems]
    for turn in range(rounds if coupling > 0 else 0):
        before = [problem.y for problem in problems]
        for number, (problem, link) in enumerate(zip(problems, links, strict=True)):
            other = problems[1 - number]
            link.hold(other.model())
            if turn == 0:
                alone = problem.size
                link.weight = 1.0
                link.weight = coupling * alone / max(float(problem.y @ link.apply(problem.y)), 1e-300)
            problem.couple(link.apply)
            for _ in range(2):
                problem.advance(betas[number])
                target = surveys[number].settings.target
                betas[number] *= float(np.clip((target / problem.chi2) ** 1.2, 0.5, 2.0))
            histories[number].append((len(histories[number]) + 1, betas[number], problem.chi2, problem.size))
        worst = max(problem.chi2 / s.settings.target for problem, s in zip(problems, surveys, strict=True))
        progress(0.6 + 0.4 * (turn + 1) / rounds, "Together", iteration=turn + 1, misfit=worst, target=1.0)
        moved = max(
            float(np.linalg.norm(problem.y - y)) / max(float(np.linalg.norm(y)), 1e-300)
            for problem, y in zip(problems, before, strict=True)
        )
        held = all(
            abs(problem.chi2 / s.settings.target - 1.0) < 0.05 for problem, s in zip(problems, surveys, strict=True)
        )
        if progress.enough or (held and moved < 0.05):
            break
    found = []
    for number, problem in enumerate(problems):
        chi2 = problem.chi2 / surveys[number].settings.target
        found.append(outcome(problem, histories[number], abs(chi2 - 1.0) < 0.1))
    return found
