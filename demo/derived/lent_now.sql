-- Loans are in circulation, and what is lent is in the catalogue.
SELECT l.id AS loan, l.lent_at, l.due_on, l.branch AS lent_at_branch,
    t.id AS title_id, t.name AS title, t.medium, b.name AS home
FROM live.loans AS l
JOIN catalogue.copies AS c ON c.barcode = l.copy AND c.nm_current
JOIN catalogue.titles AS t ON t.id = c.title_id
JOIN catalogue.branches AS b ON b.id = c.branch_id
WHERE l.returned_at IS NULL AND l.nm_deleted_at IS NULL
