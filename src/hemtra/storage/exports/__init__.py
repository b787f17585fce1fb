"""Records as files for other programs: a table (CSV), a document (JSON), results as QIF 3.0 (ISO 23952)."""

from hemtra.storage.exports.export import FORMATS, export

__all__ = ["FORMATS", "export"]
