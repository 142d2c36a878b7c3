-- The race, as it is read.
DECLARE ENDPOINT race_db MARIADB 'timing@127.0.0.1:3306/race' SECRET 'race_db';  -- kept in the service

/* Reads of shoe chips.
   Four partitions. */
DECLARE STREAM reads (
  chip       VARCHAR        NOT NULL,
  mat        VARCHAR        NOT NULL,  -- the mat under the runner
  read_at    TIMESTAMP      NOT NULL,
  rssi       DOUBLE,
  device     ROW(serial VARCHAR, battery DOUBLE),
  -- computed
  weak       BOOLEAN        AS (rssi < -75),
  tags       ARRAY(VARCHAR),
  extra      MAP(VARCHAR, DECIMAL(10, 2)),
  "Odd Name" JSON,
  raw        VARBINARY,
  at_time    TIME
)
EVENT TIME read_at DELAY 20 SECONDS AHEAD 1 HOUR IDLE AFTER 1 MINUTE 30 SECONDS
FROM TOPIC 'mat-reads' (FORMAT json, BAD ROWS keep);

DECLARE OR REPLACE TABLE entrants (
  chip       VARCHAR   PRIMARY KEY,
  bib        INT,
  updated_at TIMESTAMP
)
EVENT TIME updated_at
FROM TOPIC 'entrants' (FORMAT csv);

DECLARE TABLE pairs (
  a INT,
  b INT,
  PRIMARY KEY (a, b)
)
FROM MARIADB 'pairs' VIA race_db (REFRESH EVERY 1 MINUTE);

DECLARE STREAM found COLUMNS SAMPLED
FROM FILES :path;

DECLARE STREAM told
FROM FILES 'x.parquet' (FORMAT parquet);

DECLARE SINK crowd_table TO MARIADB 'crowding' VIA race_db (KEY (mat, place, opened));
DECLARE SINK read_archive
  TO FILES 'archive/reads' (
    FORMAT parquet,
    PARTITION BY (mat),
    ROLL EVERY 1 MINUTE,
    SIZE 5,
    NOTE 'it''s'
  );

CREATE TOPIC IF NOT EXISTS 'mat-reads' (PARTITIONS 4, RETAIN 7 DAYS);
CREATE OR REPLACE FUNCTION pace(km DOUBLE, t INTERVAL) RETURNS DOUBLE
LANGUAGE javascript AS 'return km / t';

CREATE VIEW strong AS
SELECT chip, mat
FROM reads
WHERE NOT weak
  AND rssi > -60.5
  AND (mat = 'start' OR mat LIKE 'km%')
  AND device.battery BETWEEN 0.05 AND :most;

INSERT INTO reads (chip, mat, read_at) VALUES
  ('a', 'b', TIMESTAMP '2026-05-17 09:00:00'),
  ('c', NULL, NOW());

INSERT INTO crowd_table SELECT * FROM strong;
SHOW FUNCTIONS;
DESCRIBE FUNCTION upper;
DESCRIBE reads;
DROP STREAM IF EXISTS reads;
DROP TOPIC 'a b';
START JOB j;
START JOB j FROM BEGINNING;
START JOB j FROM CHECKPOINT 12;
START JOB j FROM TIMESTAMP '2026-05-17';
STOP JOB j;
EXPLAIN JOB j;
EXPLAIN SELECT 1 FROM reads;
EXPLAIN CREATE JOB j AS
  SELECT a FROM b
  ROUTE TO c;

SELECT
  r.*,
  xs[1],
  m['k'].v,
  F(x).y,
  ARRAY[1, 2 + 3],
  ROW(a, 'b'),
  EXTRACT(YEAR FROM t AT TIME ZONE 'Europe/Rome'),
  TRIM(LEADING 'x' FROM a),
  POSITION('a', b),
  SUBSTRING(a, 2, 3),
  a IS DISTINCT FROM b,
  a IS NOT NULL,
  a NOT LIKE 'x\_%' ESCAPE '\',
  a LIKE_REGEX '^x' FLAG 'i',
  JSON_VALUE(doc, '$.a' RETURNING INT DEFAULT 0 ON EMPTY ERROR ON ERROR),
  JSON_OBJECT(KEY 'a' VALUE 1, KEY b VALUE 2 ABSENT ON NULL),
  JSON_ARRAY(1, 2 NULL ON NULL),
  COUNT(*) FILTER (WHERE a > 1) AS n,
  LISTAGG(a, ',') WITHIN GROUP (ORDER BY b DESC),
  ARRAY_AGG(a ORDER BY b),
  COUNT(DISTINCT a),
  CASE a
    WHEN 1 THEN 'x'  /* inside */
    ELSE 'y'
  END,
  -(-1),
  -(-1),
  -(-a),
  NOT a = b,
  (a + b) * c - (d - e),
  TIME '09:30:00',
  INTERVAL '-1.5' SECOND,
  ROW_NUMBER() OVER (PARTITION BY a, b ORDER BY t DESC),
  LAG(a) OVER w,
  SUM(a) OVER (ORDER BY t RANGE BETWEEN 90 DAYS PRECEDING AND CURRENT ROW),
  SUM(a) OVER (ORDER BY t ROWS 5 PRECEDING FORGET AFTER 1 HOUR),
  CURRENT_TIMESTAMP,
  1e3,
  12345678901234567890.5,
  CAST(a AS MAP(INT, ARRAY(DECIMAL(38, 3)))),
  (SELECT a FROM b),
  a IN (SELECT b FROM c)
FROM reads SINCE 1 HOUR r
WINDOW w AS (PARTITION BY a ORDER BY t);

SELECT a
FROM x r
  LEFT JOIN y s ON r.k = s.k AND r.t WITHIN 10 MINUTES OF s.t LATENESS 1 MINUTE  -- the bound
  JOIN LAST OF z ON z.t WITHIN 1 HOUR BEFORE r.t AND z.k = r.k
  JOIN entrants e AS OF r.t ON e.chip = r.chip
  JOIN mats AS OF NOW ON mats.mat = r.mat
  CROSS JOIN UNNEST(r.tags) AS u(tag)
WHERE EXISTS (SELECT 1 FROM q WHERE q.k = r.k) AND NOT a
UNIQUE BY (a, b) WITHIN 10 SECONDS
GROUP BY a, w
HAVING COUNT(*) > 1 AND MAX(a) < 5
WINDOW w AS (SLIDING 5 MINUTES EVERY 30 SECONDS
    OFFSET 1 HOUR
    AT TIME ZONE 'Europe/Rome'
    ON r.t
    LATENESS 2 MINUTES
    REPORT EVERY 1 MINUTE
    EMPTY FOR 1 HOUR),
  v AS (SESSION GAP 1 MINUTE 30 SECONDS MAX 1 HOUR REPORT ON CHANGE)
UNION ALL
SELECT b
FROM y
GROUP BY b FORGET AFTER 1 DAY
LIMIT 10
UNTIL NOW;

CREATE JOB crowd_watch
  -- Only what is sure.
  WITH strong AS (
    SELECT
      chip,
      mat,  -- short
      read_at
    FROM reads
    WHERE NOT weak
    UNIQUE BY (chip, mat) WITHIN 10 SECONDS
  ),
  crowding AS (
    SELECT s.mat, w.opens AS opened, COUNT(*) AS runners
    FROM strong s
    GROUP BY s.mat, w
    WINDOW w AS (TUMBLING :n MINUTES)
  )
  ROUTE strong TO read_archive  -- all
  ROUTE crowding WHERE runners > 5 * capacity TO crowd_alerts, x
    ELSE WHERE runners < 3 TO quiet_mats
    ELSE TO rest
  ROUTE LATE crowding OF s TO late_reads
  ROUTE REJECTED reads TO bad_reads
  SET (PARALLELISM 2, CHECKPOINT EVERY 5 SECONDS);

CREATE JOB strong_only AS
  SELECT * FROM reads WHERE NOT weak
  ROUTE WHERE a TO read_archive;

-- The end.
CREATE BOARD b (TITLE 'B', SINCE 2 HOURS)
  -- a board
  PANEL 'Number of all' NUMBER (WIDE 3, UNIT 'reads') AS (
    SELECT COUNT(*) AS n FROM reads GROUP BY mat FORGET AFTER 30 DAYS
  )  -- how many
  -- beside it
  PANEL 'Lines' SERIES AS (
    WITH x AS (
      SELECT mat, "at", n FROM s
    )
    SELECT mat, "at", n FROM x WHERE n > 1
  )
  PANEL 'Words' TEXT (HIGH 2) 'it''s so';

-- what wakes somebody
CREATE OR REPLACE ALERT timing.crowded WHEN (
  SELECT
    -- at a mat
    mat,
    COUNT(*) AS n
  FROM reads SINCE 10 MINUTES
  GROUP BY mat FORGET AFTER 1 DAY
  HAVING COUNT(*) > 1000
)
  BY mat, "at mat"
  FOR 1 MINUTE 30 SECONDS
  EVERY 5 SECONDS
  SAY '{mat}: it''s {n}'
  NOTIFY timing.hook, post;

CREATE ALERT still WHEN (
  SELECT "job" FROM fiume.jobs WHERE state = 'stopped'
);
