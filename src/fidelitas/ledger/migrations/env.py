"""What Alembic runs: the versions, on the connection that it was given."""

from alembic import context

context.configure(connection=context.config.attributes["connection"], transactional_ddl=True)
with context.begin_transaction():
    context.run_migrations()
