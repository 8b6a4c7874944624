DROP TABLE earlier_values, imports;
DROP FUNCTION keep_imports();
