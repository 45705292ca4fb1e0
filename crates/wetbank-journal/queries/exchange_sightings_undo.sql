DELETE FROM sighting WHERE (rule, place, path) IN (
  SELECT i.rule, i.place, i.path FROM exchange_item e JOIN item i ON i.id = e.item WHERE e.exchange = ?1)
