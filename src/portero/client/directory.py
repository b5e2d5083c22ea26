"""People and their user groups."""

from __future__ import annotations

from portero.client.connection import Part
from portero.core.nouns.directory import Directory, DirectoryState


class DirectoryPart(Part):
    """People and their user groups."""

    def get(self) -> DirectoryState:
        """The newest generation. NotFound."""
        return self.connection.get("/directory", DirectoryState)

    def put(self, directory: Directory) -> DirectoryState:
        """Take a new generation into use, whole. Invalid."""
        return self.connection.put("/directory", directory, DirectoryState, None)
