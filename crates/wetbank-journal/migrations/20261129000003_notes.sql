-- Why a section was changed, if whoever did it said so.
ALTER TABLE version ADD COLUMN note TEXT;
