-- Each medical call with the reads of the same chip in the ten minutes before it.
--   fiume run demo/sql/calls-with-reads.sql --set reads=day/mat-reads.ndjson --set calls=day/medical-calls.ndjson --set out=found

DECLARE STREAM reads (
  chip    VARCHAR,
  mat     VARCHAR,
  read_at TIMESTAMP
)
EVENT TIME read_at DELAY 20 SECONDS
FROM FILES :reads (FORMAT json);

DECLARE STREAM calls (
  call_id   VARCHAR,
  chip      VARCHAR,
  called_at TIMESTAMP,
  severity  INT
)
EVENT TIME called_at DELAY 20 SECONDS
FROM FILES :calls (FORMAT json);

DECLARE SINK found TO FILES :out (FORMAT json);

CREATE JOB calls_with_reads AS
  SELECT c.call_id, c.chip, c.called_at, c.severity, r.mat, r.read_at
  FROM calls c
    LEFT JOIN reads r ON r.chip = c.chip AND r.read_at WITHIN 10 MINUTES BEFORE c.called_at
  ROUTE TO found;
