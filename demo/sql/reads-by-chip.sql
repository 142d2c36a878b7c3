-- How many reads each chip has in ten seconds, and the last of them: many keys.
--   fiume run demo/sql/reads-by-chip.sql --set reads=day/mat-reads.ndjson --set out=by-chip

DECLARE STREAM reads (
  chip     VARCHAR,
  mat      VARCHAR,
  read_at  TIMESTAMP,
  seq      BIGINT,
  rssi     DOUBLE,
  device   ROW(serial VARCHAR, battery DOUBLE, firmware VARCHAR),
  position ROW(lat DOUBLE, lon DOUBLE)
)
EVENT TIME read_at DELAY 20 SECONDS
FROM FILES :reads (FORMAT json);

DECLARE SINK by_chip TO FILES :out (FORMAT json);

CREATE JOB reads_by_chip AS
  SELECT
    w.opens AS window_start,
    w.closes AS window_end,
    chip,
    COUNT(*) AS count,
    MAX(seq) AS max_seq
  FROM reads
  GROUP BY chip, w
  WINDOW w AS (TUMBLING 10 SECONDS)
  ROUTE TO by_chip;
