SELECT d.rule, d.visit, e.id, e.account, e.partner, e.place, e.path, e.fingerprint, e.size, e.address, e.what, e.at
FROM exchange_due d JOIN exchange e ON e.id = d.exchange
ORDER BY d.rule, d.visit, e.id
