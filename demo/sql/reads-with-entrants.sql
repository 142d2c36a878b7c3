-- Each read with the name and the club of the runner.
--   fiume run demo/sql/reads-with-entrants.sql --set reads=day/mat-reads.ndjson --set entrants=day/entrants.csv --set out=named

DECLARE STREAM reads (
  chip    VARCHAR,
  mat     VARCHAR,
  read_at TIMESTAMP,
  rssi    DOUBLE
)
EVENT TIME read_at DELAY 20 SECONDS
FROM FILES :reads (FORMAT json);

DECLARE TABLE entrants (
  chip VARCHAR PRIMARY KEY,
  bib  INT,
  name VARCHAR,
  club VARCHAR
)
FROM FILES :entrants (FORMAT csv);

DECLARE SINK named TO FILES :out (FORMAT json);

CREATE JOB reads_with_entrants AS
  SELECT r.chip, e.bib, e.name, e.club, r.mat, r.read_at, r.rssi
  FROM reads r
    JOIN entrants e ON e.chip = r.chip
  ROUTE TO named;
