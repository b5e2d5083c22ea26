"""People and their user groups."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.directory import Directory, DirectoryFound, DirectoryState


class DirectoryPart(Part):
    """People and their user groups."""

    def get(self) -> DirectoryState:
        """The newest generation. NotFound."""
        return self.connection.get("/directory", DirectoryState)

    def find(self, text: str, *, limit: int = 20) -> DirectoryFound:
        """The people and user groups in whose names a text stands, the first of them."""
        return self.connection.get("/directory/search", DirectoryFound, q=text, limit=limit)

    def put(self, directory: Directory, *, version: int | None = None) -> DirectoryState:
        """Take a new generation into use, whole, in place of the one seen (its `generation`; None overwrites whatever
        counts). One that lost a third of the people or more waits to be looked at. ChangedMeanwhile, Invalid.
        """
        return self.connection.put("/directory", directory, DirectoryState, version)

    def take(self) -> DirectoryState:
        """Let the generation that waits count. NotFound."""
        return DirectoryState.model_validate_json(self.connection.ask("POST", "/directory/take").content)

    def drop(self) -> DirectoryState:
        """Drop the generation that waits. NotFound."""
        return DirectoryState.model_validate_json(self.connection.ask("POST", "/directory/drop").content)
