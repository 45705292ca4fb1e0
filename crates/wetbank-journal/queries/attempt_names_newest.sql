SELECT path AS "path!: Vec<u8>" FROM attempt WHERE path IS NOT NULL ORDER BY id DESC LIMIT ?1
