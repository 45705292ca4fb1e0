SELECT kind, name, text, position, version, is_on AS "is_on: bool", changed FROM section ORDER BY position, name
