"""YAML that strangers wrote: data without references from one place to another, and not deep."""

from __future__ import annotations

from typing import Any

DEEPEST = 50
"""Lists within lists: each costs the reader some of its stack, and pure readers all that is open for every sign."""


class Refers(ValueError):
    """A place refers to another one: one reference may stand for a thousand of the next, and a few lines for more than
    any memory."""


def plain_yaml(text: str) -> Any:
    """The data that a text holds; raises Refers, or ValueError when it is no YAML or is too deep."""
    import yaml

    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    begins = (
        yaml.FlowSequenceStartToken,
        yaml.FlowMappingStartToken,
        yaml.BlockSequenceStartToken,
        yaml.BlockMappingStartToken,
    )
    ends = (yaml.FlowSequenceEndToken, yaml.FlowMappingEndToken, yaml.BlockEndToken)
    deep = 0
    try:
        for token in yaml.scan(text, Loader=loader):
            if isinstance(token, (yaml.AliasToken, yaml.AnchorToken)):
                raise Refers
            deep += isinstance(token, begins) - isinstance(token, ends)
            if deep > DEEPEST:
                raise ValueError(f"more than {DEEPEST} lists within one another")
        return yaml.load(text, Loader=loader)  # noqa: S506  # a safe one
    except (yaml.YAMLError, RecursionError) as error:
        raise ValueError(str(error)) from error
