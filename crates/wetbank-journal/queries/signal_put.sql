INSERT INTO signal (proof, at) VALUES (?1, ?2) ON CONFLICT (proof) DO NOTHING
