-- The race desk of the Three Bridges Marathon: from raw mat reads to clean reads and crowd warnings.

CREATE TOPIC IF NOT EXISTS 'mat-reads' (PARTITIONS 4);
CREATE TOPIC IF NOT EXISTS 'clean-reads' (PARTITIONS 2);
CREATE TOPIC IF NOT EXISTS 'crowd-alerts' (PARTITIONS 1);

DECLARE ENDPOINT race_db MARIADB 'race@private/race' SECRET 'race_db';

DECLARE STREAM reads (
  chip     VARCHAR   NOT NULL,
  mat      VARCHAR   NOT NULL,
  read_at  TIMESTAMP NOT NULL,
  seq      BIGINT,
  rssi     DOUBLE,
  device   ROW(serial VARCHAR, battery DOUBLE, firmware VARCHAR),
  position ROW(lat DOUBLE, lon DOUBLE),
  weak     BOOLEAN   AS (rssi < -80)
)
EVENT TIME read_at DELAY 20 SECONDS IDLE AFTER 30 SECONDS
FROM TOPIC 'mat-reads' (FORMAT json, BAD ROWS keep);

DECLARE SINK clean_topic TO TOPIC 'clean-reads' (FORMAT json, KEY (chip));
DECLARE SINK read_archive TO FILES :archive (FORMAT json, ROLL EVERY 30 SECONDS);
DECLARE SINK crowd_table TO MARIADB 'crowding' VIA race_db (KEY (mat, opened));
DECLARE SINK crowd_alerts TO TOPIC 'crowd-alerts' (FORMAT json);

-- A chip is read several times while its runner crosses a mat. One row a chip, mat and ten seconds stays.
CREATE JOB clean_reads
  WITH strong AS (
    SELECT chip, mat, read_at, rssi, device.serial AS reader
    FROM reads
    WHERE NOT weak
  ),
  clean AS (
    SELECT chip, mat, MIN(read_at) AS first_read, MAX(rssi) AS best_rssi, COUNT(*) AS reads
    FROM strong
    GROUP BY chip, mat, w
    WINDOW w AS (TUMBLING 10 SECONDS)
  )
  ROUTE clean TO clean_topic, read_archive
  SET (CHECKPOINT EVERY 2 SECONDS);

-- How many runners cross each mat in a minute, and a warning where it gets crowded.
CREATE JOB crowding
  WITH crossings AS (
    SELECT chip, mat, MAX(rssi) AS rssi
    FROM reads
    GROUP BY chip, mat, w
    WINDOW w AS (TUMBLING 10 SECONDS)
  ),
  crowd AS (
    SELECT mat, w.opens AS opened, w.closes AS closed, COUNT(*) AS runners, MAX(rssi) AS best_rssi
    FROM crossings
    GROUP BY mat, w
    WINDOW w AS (TUMBLING 1 MINUTE)
  )
  ROUTE crowd TO crowd_table
  ROUTE crowd WHERE runners > 150 TO crowd_alerts
  SET (CHECKPOINT EVERY 2 SECONDS);
