"""What is asked of a workspace is asked of its model."""

from __future__ import annotations

from oaktag.operations.model import Model


class Asked:
    """Answers about one workspace.

    Attributes:
        model: the workspace, computed as far as it is asked.
    """

    def __init__(self, model: Model) -> None:
        self.model = model
