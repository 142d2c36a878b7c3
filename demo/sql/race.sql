-- The race desk of the Three Bridges Marathon: clean reads, crowd warnings, silent mats and words from
-- the radio, and everything that came late or garbled.

CREATE TOPIC IF NOT EXISTS 'mat-reads' (PARTITIONS 4);
CREATE TOPIC IF NOT EXISTS radio (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'clean-reads' (PARTITIONS 2);
CREATE TOPIC IF NOT EXISTS 'crowd-alerts' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'mat-sessions' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'late-reads' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'bad-reads' (PARTITIONS 1);

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

DECLARE STREAM radio (
  line VARCHAR
)
FROM TOPIC 'radio' (FORMAT text);

DECLARE SINK clean_topic TO TOPIC 'clean-reads' (FORMAT json, KEY (chip));
DECLARE SINK read_archive TO FILES :archive (FORMAT json, ROLL EVERY 30 SECONDS);
DECLARE SINK crowd_table TO MARIADB 'crowding' VIA race_db (KEY (mat, opened));
DECLARE SINK crowd_alerts TO TOPIC 'crowd-alerts' (FORMAT json, CHANGES full);
DECLARE SINK mat_sessions TO TOPIC 'mat-sessions' (FORMAT json);
DECLARE SINK word_table TO MARIADB 'radio_words' VIA race_db (KEY (word, opened));
DECLARE SINK late_reads TO TOPIC 'late-reads' (FORMAT json);
DECLARE SINK bad_reads TO TOPIC 'bad-reads' (FORMAT json);

-- A chip is read several times while its runner crosses a mat. The first read of a chip and mat stays.
CREATE JOB clean_reads
  WITH clean AS (
    SELECT chip, mat, read_at, rssi, device.serial AS reader
    FROM reads
    WHERE NOT weak
    UNIQUE BY (chip, mat) WITHIN 10 SECONDS
  )
  ROUTE clean TO clean_topic, read_archive
  ROUTE LATE clean TO late_reads
  ROUTE REJECTED reads TO bad_reads
  SET (CHECKPOINT EVERY 2 SECONDS);

-- How many runners cross each mat in five minutes, and a warning where it gets crowded. A mat whose link was
-- down for a while corrects what was given.
CREATE JOB crowding
  WITH crowd AS (
    SELECT
      mat,
      w.opens AS opened,
      w.closes AS closed,
      COUNT(DISTINCT chip) AS runners,
      MAX(rssi) AS best_rssi
    FROM reads
    GROUP BY mat, w
    WINDOW w AS (SLIDING 5 MINUTES EVERY 30 SECONDS LATENESS 2 MINUTES)
  )
  ROUTE crowd TO crowd_table
  ROUTE crowd WHERE runners > 150 TO crowd_alerts
  ROUTE LATE crowd TO late_reads
  SET (CHECKPOINT EVERY 2 SECONDS);

-- When each mat was read without a break: a gap of ninety seconds is worth a look.
CREATE JOB mat_outages
  WITH stretches AS (
    SELECT
      mat,
      w.opens AS first_read,
      MAX(read_at) AS last_read,
      w.closes AS missed_at,
      COUNT(*) AS reads
    FROM reads
    GROUP BY mat, w
    WINDOW w AS (SESSION GAP 1 MINUTE 30 SECONDS)
  )
  ROUTE stretches TO mat_sessions
  SET (CHECKPOINT EVERY 2 SECONDS);

-- The words that marshals use on the radio, by minute, while the minute is running.
CREATE JOB radio_words
  WITH words AS (
    SELECT u.word, w.opens AS opened, COUNT(*) AS times
    FROM radio
      CROSS JOIN UNNEST(SPLIT(LOWER(line), ' ')) AS u(word)
    WHERE u.word <> ''
    GROUP BY u.word, w
    WINDOW w AS (TUMBLING 1 MINUTE REPORT EVERY 5 SECONDS)
  )
  ROUTE words TO word_table
  SET (CHECKPOINT EVERY 2 SECONDS);
