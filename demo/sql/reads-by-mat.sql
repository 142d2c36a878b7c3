-- How many reads each mat has in ten seconds, and how strong they are: few keys.
--   fiume run demo/sql/reads-by-mat.sql --set reads=day/mat-reads.ndjson --set out=by-mat

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

DECLARE SINK by_mat TO FILES :out (FORMAT json);

CREATE JOB reads_by_mat AS
  SELECT
    w.opens AS window_start,
    w.closes AS window_end,
    mat,
    COUNT(*) AS count,
    AVG(rssi) AS avg_rssi,
    MIN(rssi) AS min_rssi,
    MAX(rssi) AS max_rssi
  FROM reads
  GROUP BY mat, w
  WINDOW w AS (TUMBLING 10 SECONDS)
  ROUTE TO by_mat;
