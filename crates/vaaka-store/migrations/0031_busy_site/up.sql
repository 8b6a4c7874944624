-- Measured on a site of 500 instruments with five years behind it: the newest records were sorted out of all there are
-- (368 ms a page, 4 with this), and whether a plan failed earlier in a shift was asked of all its checks (87 ms, 18).
-- The first is on an expression that only the list of records orders by: on the bare column it would tempt the planner to
-- look for the newest checks of one plan among those of all (5 ms, 79 with it).
CREATE INDEX checks_by_moment ON checks ((opened_at AT TIME ZONE 'UTC') DESC, id DESC);
CREATE INDEX checks_of_shift ON checks (plan_version_id, shift_instance_id);
