-- Several outputs of one batch, and their accounts.

-- What an output is: the rows, those that were set aside, the account beside it, or
-- the rows of all outputs.
ALTER TABLE output ADD COLUMN role TEXT NOT NULL DEFAULT 'rows';
-- The account as JSON: sources, columns, rows in and out.
ALTER TABLE output ADD COLUMN account TEXT;
