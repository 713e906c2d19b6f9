"""Whether what is about to be timed is what runs in real life, in sentences for `check` and `observe`."""

from __future__ import annotations

from bystander.design import ArmState, Study, fill_plain
from bystander.field import build_signs, command_signs, environment_signs, program_signs
from bystander.flow.trials.trial import Commands

__all__ = ["signs"]


def signs(study: Study, arms: tuple[ArmState, ...], commands: Commands) -> list[str]:
    """Return a sentence for each sign of a debug build, missing optimisation, tracing or coverage, once each."""
    found: dict[str, list[str]] = {}
    for a, (arm, state) in enumerate(zip(study.arms, arms, strict=True)):
        steps = [fill_plain(step, arm.filled) for step in arm.build]
        signs = [f"build step {text}" for text in build_signs(steps)]
        signs += environment_signs(state.facts.environment)
        interpreter = state.facts.interpreter
        if interpreter.doubts:
            signs.append(f"{interpreter.program}: {interpreter.doubts}")
        for w, workload in enumerate(study.workloads):
            command = commands[w, a].command
            signs += [f"{command.path}: {text}" for text in program_signs(command.path)]
            signs += [f"{workload.name}: {text}" for text in command_signs(command.argv)]
        for text in dict.fromkeys(signs):
            found.setdefault(text, []).append(arm.name)
    everywhere = len(study.arms)
    return [
        f"{text}." if len(names) == everywhere else f"Under arm {' and '.join(names)} only: {text}."
        for text, names in found.items()
    ]
