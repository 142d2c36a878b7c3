-- Strong reads of readers that need a new battery soon, as they are.
--   fiume run demo/sql/strong-reads.sql --set reads=day/mat-reads.ndjson --set out=strong

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

DECLARE SINK strong TO FILES :out (FORMAT json);

CREATE JOB strong_reads AS
  SELECT chip, mat, read_at, seq, rssi
  FROM reads
  WHERE rssi > -70 AND device.battery < 0.5
  ROUTE TO strong;
