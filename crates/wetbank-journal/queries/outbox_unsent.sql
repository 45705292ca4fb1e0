SELECT id AS "id!" FROM outbox WHERE state <> 'sent'
