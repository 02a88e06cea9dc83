"""What can go wrong with a planner's input, each said in one sentence that names the place and the way out."""


class TansyError(Exception):
    """Base of every error that is shown to a person as it stands."""


class FileError(TansyError):
    """A file cannot be read at all: empty, binary, without a header, or without a usable column."""


class NotationError(TansyError):
    """A method's text does not follow the notation."""


class DriverError(TansyError):
    """A driver that a method needs is not known where it has to be."""


class RecipeError(TansyError):
    """A recipe lacks something, holds something unknown, or asks for what the data cannot give."""


class PlanError(TansyError):
    """A plan cannot be right. field: where it stands."""

    def __init__(self, field: str, sentence: str) -> None:
        super().__init__(sentence)
        self.field = field


class AdjustmentError(TansyError):
    """An adjustment cannot be right, or does not fit the forecast. entry: which of its entries is at fault."""

    def __init__(self, entry: str, sentence: str) -> None:
        super().__init__(sentence)
        self.entry = entry


class StructureError(TansyError):
    """Nodes do not add up: a missing parent, a cycle, or contradicting attributes."""


class Stopped(TansyError):
    """The run was asked to stop; batches that were finished are kept."""


class PathsError(TansyError):
    """Sample paths that cannot be had: too many, too few, or of a level that is not there."""
