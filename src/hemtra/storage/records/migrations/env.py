"""Runs the migrations on the connection it is given."""

from alembic import context

from hemtra.storage.records.schema import metadata

context.configure(connection=context.config.attributes["connection"], target_metadata=metadata)
with context.begin_transaction():
    context.run_migrations()
