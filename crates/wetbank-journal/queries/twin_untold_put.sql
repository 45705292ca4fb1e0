INSERT INTO twin_untold (twin, notice, pass) VALUES (?1, ?2, ?3)
