-- How many reads each mat has in five minutes, every ten seconds.
--   fiume run demo/sql/crowd-by-mat.sql --set reads=day/mat-reads.ndjson --set out=crowd

DECLARE STREAM reads (
  mat     VARCHAR,
  read_at TIMESTAMP,
  rssi    DOUBLE
)
EVENT TIME read_at DELAY 20 SECONDS
FROM FILES :reads (FORMAT json);

DECLARE SINK crowd TO FILES :out (FORMAT json);

CREATE JOB crowd_by_mat AS
  SELECT
    w.opens AS window_start,
    w.closes AS window_end,
    mat,
    COUNT(*) AS count,
    AVG(rssi) AS avg_rssi
  FROM reads
  GROUP BY mat, w
  WINDOW w AS (SLIDING 5 MINUTES EVERY 10 SECONDS)
  ROUTE TO crowd;
