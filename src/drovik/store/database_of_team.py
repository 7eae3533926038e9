"""A store in PostgreSQL: agreed to, opened, its tables made and changed in numbered steps."""

from __future__ import annotations

import secrets
from typing import cast
from urllib.parse import urlsplit

from drovik.errors import ConsentError, Problem
from drovik.project.agreements import is_agreed, keep_agreement
from drovik.project.reading import StorePlace
from drovik.project.settings import is_loopback
from drovik.store.database import (
    BROKEN,
    CHANGES,
    COUNTED,
    COUNTING,
    FIRST_REVISION,
    VERSION,
    Connection,
    Database,
    make_folder,
    of_other_version,
    statements,
    store_error,
    table_of_today,
    transaction,
)
from drovik.store.postgres import PostgresConnection, statement_of_postgres
from drovik.store.rescue import import_rescued


def agree_to_store(place: StorePlace) -> None:
    """Keep that somebody agreed to a store's host."""
    host = urlsplit(place.url or "").hostname
    if host and not is_loopback(host) and not is_agreed(_stores_of(place), host):
        keep_agreement(_stores_of(place), host)


def _require_agreed(place: StorePlace) -> None:
    """See that somebody agreed that what a project has answered goes to a host.

    :raises ConsentError: where nobody did.
    """
    host = urlsplit(place.url or "").hostname
    if host and not is_loopback(host) and not is_agreed(_stores_of(place), host):
        what = f"all that is sent and answered would be kept at {host}, which was never agreed to"
        raise ConsentError(
            Problem(what, "if it may be, say once: drovik store check --trust", "drovik.toml", "store")
        )


def _stores_of(place: StorePlace) -> str:
    return f"store of {place.path.parent.parent.resolve()}"


def _version_in(connection: Connection, schema: str) -> int:
    """The version of the tables in a schema; 0 where there are none."""
    query = "SELECT 1 FROM pg_tables WHERE schemaname = ? AND tablename = 'store_version'"
    if connection.execute(query, (schema,)).fetchone() is None:
        return 0
    return int(connection.execute(f'SELECT version FROM "{schema}".store_version').fetchone()[0])


def _make_in_postgres(connection: Connection, schema: str) -> None:
    """Make the tables, or make them those of today; within a transaction, for another program may be about to."""
    connection.execute(f'SET search_path TO "{schema}"')  # or a schema that another made just now is not seen
    version = _version_in(connection, schema)
    if version == 0:
        connection.execute(f'CREATE SCHEMA IF NOT EXISTS "{schema}"')
        connection.execute("CREATE TABLE store_version (version BIGINT NOT NULL)")
        for statement in statements():
            if statement.strip():
                connection.execute(statement_of_postgres(statement))
        _count_changes(connection, schema)
        connection.execute(FIRST_REVISION)
        connection.execute("INSERT INTO store VALUES (?)", (secrets.token_hex(16),))
        connection.execute("INSERT INTO store_version VALUES (?)", (VERSION,))
    for older in range(version or VERSION, VERSION):
        for statement in CHANGES[older]:
            if statement == COUNTING:
                _count_changes(connection, schema)
            else:
                connection.execute(statement_of_postgres(table_of_today(statement)))
        connection.execute("UPDATE store_version SET version = ?", (older + 1,))


def _count_changes(connection: Connection, schema: str) -> None:
    """Have the database count the changes of what scores are made of, also those of who may not write the count."""
    connection.execute(
        f'CREATE FUNCTION "{schema}".count_change() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS'
        f' $$ BEGIN UPDATE "{schema}".revision SET number = number + 1; RETURN NULL; END $$'
    )
    for table in COUNTED:
        connection.execute(
            f"CREATE TRIGGER {table}_changed AFTER INSERT OR UPDATE OR DELETE ON {table}"
            f' FOR EACH STATEMENT EXECUTE FUNCTION "{schema}".count_change()'
        )


def open_in_postgres(place: StorePlace) -> Database:
    """A store in PostgreSQL, open; its schema is made where it is new.

    :raises DrovikError: where the server does not answer, or the store was made by a later Drovik.
    """
    assert place.url is not None
    _require_agreed(place)
    made = PostgresConnection(place.url)
    connection = cast(Connection, made)
    try:
        version = _version_in(connection, made.schema)
        if version < VERSION:  # who may only read, or use what is there, need not be let make anything
            with transaction(connection):
                _make_in_postgres(connection, made.schema)
            version = VERSION
        if version > VERSION:
            raise of_other_version(version)
        id_ = str(connection.execute("SELECT id FROM store").fetchone()[0])
        make_folder(place.path.parent)  # what cannot be written there is kept here
        _, notes = import_rescued(connection, place.path.parent, id_)
    except BROKEN as error:
        connection.close()
        raise store_error(error) from None
    return Database(connection, id_, tuple(notes))
