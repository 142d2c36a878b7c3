-- The race, as it is read.
declare endpoint race_db mariadb 'timing@127.0.0.1:3306/race' secret 'race_db'; -- kept in the service

/* Reads of shoe chips.
   Four partitions. */
DECLARE STREAM reads (chip VARCHAR NOT NULL, mat varchar not null, -- the mat under the runner
  read_at TIMESTAMP NOT NULL, rssi DOUBLE, device ROW(serial VARCHAR, battery DOUBLE),
  -- computed
  weak BOOLEAN AS (rssi < -75), tags ARRAY(VARCHAR), extra MAP(VARCHAR, DECIMAL(10,2)), "Odd Name" JSON, raw VARBINARY, at_time TIME
) EVENT TIME read_at DELAY 20 SECONDS AHEAD 1 HOUR IDLE AFTER 90 SECONDS FROM TOPIC 'mat-reads' (FORMAT json, BAD ROWS keep);
DECLARE OR REPLACE TABLE entrants (chip VARCHAR PRIMARY KEY, bib INT, updated_at TIMESTAMP) EVENT TIME updated_at FROM TOPIC 'entrants' (FORMAT csv);
DECLARE TABLE pairs (a INT, b INT, primary key (a, b)) FROM MARIADB 'pairs' VIA race_db (REFRESH EVERY 1 MINUTE);
DECLARE STREAM found COLUMNS SAMPLED FROM FILES :path;
DECLARE STREAM told FROM FILES 'x.parquet' (FORMAT parquet);
DECLARE SINK crowd_table TO MARIADB 'crowding' VIA race_db (KEY (mat, place, opened));
DECLARE SINK read_archive TO FILES 'archive/reads' (FORMAT parquet, PARTITION BY (mat), ROLL EVERY 1 MINUTE, SIZE 5, NOTE 'it''s');
CREATE TOPIC IF NOT EXISTS 'mat-reads' (PARTITIONS 4, RETAIN 7 DAYS);
CREATE OR REPLACE FUNCTION pace(km DOUBLE, t INTERVAL) RETURNS DOUBLE LANGUAGE javascript AS 'return km / t';
CREATE VIEW strong AS SELECT chip, mat FROM reads WHERE NOT weak AND rssi > -60.5 AND (mat = 'start' OR mat LIKE 'km%') AND device.battery BETWEEN 0.05 AND :most;
INSERT INTO reads (chip, mat, read_at) VALUES ('a', 'b', TIMESTAMP '2026-05-17 09:00:00'), ('c', NULL, NOW());
INSERT INTO crowd_table SELECT * FROM strong;
SHOW FUNCTIONS; DESCRIBE FUNCTION upper; DESCRIBE reads; DROP STREAM IF EXISTS reads; DROP TOPIC 'a b';
START JOB j; START JOB j FROM BEGINNING; START JOB j FROM CHECKPOINT 12; START JOB j FROM TIMESTAMP '2026-05-17'; STOP JOB j;
EXPLAIN j; EXPLAIN SELECT 1 FROM reads; EXPLAIN CREATE JOB j AS SELECT a FROM b ROUTE TO c;
SELECT r.*, xs[1], m['k'].v, (f(x)).y, ARRAY[1, 2 + 3], ROW(a, 'b'), EXTRACT(YEAR FROM t AT TIME ZONE 'Europe/Rome'), TRIM(LEADING 'x' FROM a),
  POSITION('a' IN b), SUBSTRING(a FROM 2 FOR 3), a IS DISTINCT FROM b, a IS NOT NULL, a NOT LIKE 'x\_%' ESCAPE '\', a LIKE_REGEX '^x' FLAG 'i',
  JSON_VALUE(doc, '$.a' RETURNING INT DEFAULT 0 ON EMPTY ERROR ON ERROR), JSON_OBJECT('a' : 1, KEY b VALUE 2 ABSENT ON NULL), JSON_ARRAY(1, 2 NULL ON NULL),
  COUNT(*) FILTER (WHERE a > 1) AS n, LISTAGG(a, ',') WITHIN GROUP (ORDER BY b DESC), ARRAY_AGG(a ORDER BY b), COUNT(DISTINCT a),
  CASE a WHEN 1 THEN 'x' /* inside */ ELSE 'y' END, - -1, -(-1), - (- a), NOT (a = b), (a + b) * c - (d - e), TIME '09:30:00', INTERVAL -'1.5' SECOND,
  ROW_NUMBER() OVER (PARTITION BY a, b ORDER BY t DESC), LAG(a) OVER w, SUM(a) OVER (ORDER BY t RANGE BETWEEN 90 DAYS PRECEDING AND CURRENT ROW),
  SUM(a) OVER (ORDER BY t ROWS 5 PRECEDING FORGET AFTER 1 HOUR), CURRENT_TIMESTAMP, 1e3, 12345678901234567890.5, CAST(a AS MAP(INT, ARRAY(DECIMAL(38, 3)))), (SELECT a FROM b), a IN (SELECT b FROM c)
FROM reads SINCE 1 HOUR r WINDOW w AS (PARTITION BY a ORDER BY t);
SELECT a FROM x r LEFT JOIN y AS s ON r.k = s.k AND r.t WITHIN 10 MINUTES OF s.t LATENESS 1 MINUTE -- the bound
  JOIN LAST OF z ON z.t WITHIN 1 HOUR BEFORE r.t AND z.k = r.k JOIN entrants e AS OF r.t ON e.chip = r.chip JOIN mats AS OF NOW ON mats.mat = r.mat
  CROSS JOIN UNNEST(r.tags) AS u(tag) WHERE EXISTS (SELECT 1 FROM q WHERE q.k = r.k) AND NOT a UNIQUE BY (a, b) WITHIN 10 SECONDS
  GROUP BY a, w HAVING COUNT(*) > 1 AND MAX(a) < 5 WINDOW w AS (SLIDING 5 MINUTES EVERY 30 SECONDS AT TIME ZONE 'Europe/Rome' OFFSET 1 HOUR ON r.t LATENESS 2 MINUTES REPORT EVERY 1 MINUTE EMPTY FOR 1 HOUR),
  v AS (SESSION GAP 90 SECONDS MAX 1 HOUR REPORT ON CHANGE) UNION ALL SELECT b FROM y GROUP BY b FORGET AFTER 1 DAY LIMIT 10 UNTIL NOW;
CREATE JOB crowd_watch WITH
  -- Only what is sure.
  strong AS (SELECT chip, mat, -- short
     read_at FROM reads WHERE NOT weak UNIQUE BY (chip, mat) WITHIN 10 SECONDS),
  crowding AS (SELECT s.mat, w.opens AS opened, COUNT(*) AS runners FROM strong s GROUP BY s.mat, w WINDOW w AS (TUMBLING :n MINUTES))
  ROUTE strong TO read_archive -- all
  ROUTE crowding WHERE runners > 5 * capacity TO crowd_alerts, x ELSE WHERE runners < 3 TO quiet_mats ELSE TO rest
  ROUTE LATE crowding OF s TO late_reads ROUTE REJECTED reads TO bad_reads
  SET (PARALLELISM 2, CHECKPOINT EVERY 5 SECONDS);
CREATE JOB strong_only AS SELECT * FROM reads WHERE NOT weak ROUTE WHERE a TO read_archive;
-- The end.
create board b (title 'B', since 2 hours) -- a board
 panel 'Number of all' number (wide 3, unit 'reads') as (select count(*) as n from reads group by mat forget after 30 days) -- how many
  -- beside it
 panel 'Lines' series as (with x as (select mat, at, n from s) select mat, at, n from x where n > 1) panel 'Words' text (high 2) 'it''s so';

-- what wakes somebody
create or replace alert timing.crowded when ( -- at a mat
  select mat, count(*) as n from reads since 10 minutes group by mat forget after 1 day having count(*) > 1000) by mat, "at mat" for 1 minute 30 seconds every 5 seconds say '{mat}: it''s {n}' notify timing.hook, post;
create alert still when (select job from fiume.jobs where state = 'stopped');
