DROP INDEX checks_of_shift;
DROP INDEX checks_by_moment;
