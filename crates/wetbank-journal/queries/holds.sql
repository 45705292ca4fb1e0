SELECT h.item AS "item!", i.run, i.rule, r.version, i.kind, i.place, i.path, i.size, i.branch, i.step, h.since, h.code, h.why,
       h.remedy
FROM hold h JOIN item i ON i.id = h.item JOIN run r ON r.id = i.run
WHERE h.item < ?1 ORDER BY h.item DESC LIMIT ?2
