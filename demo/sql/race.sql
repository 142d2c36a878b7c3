-- The race desk of the Three Bridges Marathon: clean reads, crowd warnings, splits with the names of the
-- runners, runners that go missing, where a medical call comes from, silent mats and words from the radio,
-- and everything that came late or garbled.

CREATE TOPIC IF NOT EXISTS 'mat-reads' (PARTITIONS 4);
CREATE TOPIC IF NOT EXISTS 'medical-calls' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'clean-reads' (PARTITIONS 2);
CREATE TOPIC IF NOT EXISTS 'crowd-alerts' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'missing-runners' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'located-calls' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'mat-sessions' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'late-reads' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'bad-reads' (PARTITIONS 1);
CREATE TOPIC IF NOT EXISTS 'mat-states' (PARTITIONS 1);

DECLARE ENDPOINT race_db MARIADB 'race@private/race' SECRET 'race_db';

-- Open tables that any program can read, while the race goes on and after it.
DECLARE ENDPOINT lake LAKE :lake;

-- The medical desk's own system, which gets each call as a request.
DECLARE ENDPOINT medical_desk WEB 'http://127.0.0.1:7272' (AT ONCE 4);

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

-- What marshals say on the radio comes as lines over a connection. What is said while nobody listens is gone.
DECLARE STREAM radio (
  line VARCHAR
)
FROM TCP '127.0.0.1:7273' (FORMAT text);

DECLARE STREAM calls (
  call_id   VARCHAR   NOT NULL,
  chip      VARCHAR   NOT NULL,
  called_at TIMESTAMP NOT NULL,
  severity  INT,
  marshal   VARCHAR
)
EVENT TIME called_at DELAY 20 SECONDS IDLE AFTER 2 SECONDS
FROM TOPIC 'medical-calls' (FORMAT json);

-- Mats tell over MQTT how they are, each at an address of its own.
DECLARE STREAM mat_states (
  mat     VARCHAR   AS (SPLIT(_key, '/')[2]),
  "at"    TIMESTAMP,
  battery DOUBLE,
  celsius DOUBLE,
  waiting INT
)
EVENT TIME "at" DELAY 5 SECONDS
FROM TOPIC 'mat-states' (FORMAT json);

-- What the medical desk's system has taken, as it says itself.
DECLARE STREAM desk_calls (
  n    BIGINT,
  "at" TIMESTAMP,
  path VARCHAR,
  body VARCHAR
)
FROM WEB '/taken' VIA medical_desk (ROWS AT 'newest', NEW BY n, LOOK EVERY 1 SECOND);

-- Registrations change until the last minute, in the registration desk's own table: the database's log tells of it.
DECLARE TABLE entrants (
  chip       VARCHAR   PRIMARY KEY,
  bib        INT,
  name       VARCHAR,
  club       VARCHAR,
  wave       VARCHAR,
  birth_year INT,
  updated_at TIMESTAMP
)
EVENT TIME updated_at
FROM MARIADB 'entrants' VIA race_db (CHANGES true);

DECLARE TABLE mats (
  mat        VARCHAR PRIMARY KEY,
  km         DOUBLE,
  place      VARCHAR,
  capacity   INT,
  mat_before VARCHAR
)
FROM MARIADB 'mats' VIA race_db (REFRESH EVERY 1 MINUTE);

-- What a runner of the same name needed in the edition before: of repeated names the last file's counts.
DECLARE TABLE editions (
  edition        INT,
  bib            INT,
  name           VARCHAR PRIMARY KEY,
  finish_seconds INT
)
FROM FILES :editions (FORMAT csv);

-- Results of editions long ago come as files, some packed in columns: whoever digitises them drops them in.
DECLARE STREAM old_results (
  edition        INT,
  bib            INT,
  name           VARCHAR,
  finish_seconds INT
)
FROM FILES :editions (FORMAT csv, FOLLOW true, REST 1 SECOND);

DECLARE STREAM older_results (
  edition        INT,
  bib            INT,
  name           VARCHAR,
  finish_seconds INT
)
FROM FILES :older_editions (FORMAT parquet, FOLLOW true, REST 1 SECOND);

DECLARE SINK clean_topic TO TOPIC 'clean-reads' (FORMAT json, KEY (chip));
DECLARE SINK read_archive
  TO FILES :archive (FORMAT parquet, COMPRESS zstd, PARTITION BY (mat), ROLL EVERY 10 SECONDS);

DECLARE SINK crowd_table TO MARIADB 'crowding' VIA race_db (KEY (mat, opened));
DECLARE SINK crowd_alerts TO TOPIC 'crowd-alerts' (FORMAT json, CHANGES full);
DECLARE SINK split_table TO MARIADB 'splits' VIA race_db (KEY (chip, mat));
DECLARE SINK split_lake
  TO LAKE 'race.splits' VIA lake (KEY (chip, mat), COMPACT EVERY 1 MINUTE, KEEP 1 DAY);

DECLARE SINK missing_topic TO TOPIC 'missing-runners' (FORMAT json);
DECLARE SINK call_topic TO TOPIC 'located-calls' (FORMAT json);
DECLARE SINK call_desk TO WEB '/calls/{call_id}' VIA medical_desk (METHOD put, KEY (chip));
DECLARE SINK mat_sessions TO TOPIC 'mat-sessions' (FORMAT json);
DECLARE SINK word_table TO MARIADB 'radio_words' VIA race_db (KEY (word, opened));
DECLARE SINK edition_table TO MARIADB 'editions' VIA race_db (KEY (edition));
DECLARE SINK late_reads TO TOPIC 'late-reads' (FORMAT json);
DECLARE SINK bad_reads TO TOPIC 'bad-reads' (FORMAT json);

-- The first read of each chip at each mat, also a weak one, with where the mat lies.
CREATE VIEW passed AS
SELECT r.chip, r.mat, r.read_at, m.km, m.place, m.mat_before
FROM reads r
  JOIN mats m ON m.mat = r.mat
UNIQUE BY (r.chip, r.mat) WITHIN 10 MINUTES;

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

-- How many runners cross each mat in five minutes, and a warning where more do than it can take. A mat whose
-- link was down for a while corrects what was given.
CREATE JOB crowding
  WITH crowd AS (
    SELECT
      r.mat,
      w.opens AS opened,
      w.closes AS closed,
      COUNT(DISTINCT r.chip) AS runners,
      MAX(m.place) AS place,
      MAX(m.capacity) AS capacity
    FROM reads r
      JOIN mats m ON m.mat = r.mat
    GROUP BY r.mat, w
    WINDOW w AS (SLIDING 5 MINUTES EVERY 30 SECONDS LATENESS 2 MINUTES)
  )
  ROUTE crowd TO crowd_table
  ROUTE crowd WHERE runners > 5 * capacity TO crowd_alerts
  ROUTE LATE crowd TO late_reads
  SET (CHECKPOINT EVERY 2 SECONDS);

-- How long each runner took from the mat before, with the name as it was registered at that moment.
CREATE JOB splits
  WITH legs AS (
    SELECT p.chip, p.mat, p.km, p.read_at, p.read_at - b.read_at AS took
    FROM passed p
      LEFT JOIN passed b
        ON b.chip = p.chip
          AND b.mat = p.mat_before
          AND b.read_at WITHIN 2 HOURS BEFORE p.read_at
  ),
  named AS (
    SELECT
      l.chip,
      l.mat,
      l.km,
      e.bib,
      e.name,
      e.club,
      l.read_at AS passed_at,
      l.took / 1 SECOND AS leg_seconds,
      (SELECT x.finish_seconds FROM editions x WHERE x.name = e.name) AS earlier_finish
    FROM legs l
      LEFT JOIN entrants e AS OF l.read_at ON e.chip = l.chip
  )
  ROUTE named TO split_table, split_lake
  SET (CHECKPOINT EVERY 2 SECONDS);

-- Who was read at a mat and not at the next one within the time that the slowest runner needs.
CREATE JOB missing_runners
  WITH missing AS (
    SELECT p.chip, e.bib, e.name, p.place AS last_place, p.read_at AS last_seen
    FROM passed p
      LEFT JOIN passed n
        ON n.chip = p.chip
          AND n.mat_before = p.mat
          AND n.read_at WITHIN 1 HOUR AFTER p.read_at
      LEFT JOIN entrants e AS OF NOW ON e.chip = p.chip
    WHERE n.chip IS NULL AND p.mat <> 'finish'
  )
  ROUTE missing TO missing_topic
  SET (CHECKPOINT EVERY 2 SECONDS);

-- Where a medical call comes from: behind the mat at which the chip was last read.
CREATE JOB call_places
  WITH located AS (
    SELECT
      c.call_id,
      c.severity,
      c.called_at,
      c.chip,
      r.place AS last_place,
      r.km AS last_km,
      r.read_at AS last_seen
    FROM calls c
      LEFT JOIN LAST OF passed r ON r.chip = c.chip AND r.read_at WITHIN 2 HOURS BEFORE c.called_at
  )
  ROUTE located TO call_topic, call_desk
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

-- Of each edition, how many finished and how fast, from all files that have come so far.
CREATE JOB editions_told
  WITH results AS (
    SELECT edition, name, finish_seconds
    FROM old_results
    UNION ALL
    SELECT edition, name, finish_seconds
    FROM older_results
  ),
  told AS (
    SELECT
      edition,
      COUNT(*) AS finishers,
      MIN(finish_seconds) AS best_seconds,
      AVG(finish_seconds) AS average_seconds
    FROM results
    GROUP BY edition FORGET AFTER 365 DAYS
  )
  ROUTE told TO edition_table
  SET (CHECKPOINT EVERY 2 SECONDS);

-- What missing_runners has told, for whoever looks.
DECLARE STREAM gone_missing (
  chip       VARCHAR,
  bib        INT,
  name       VARCHAR,
  last_place VARCHAR,
  last_seen  TIMESTAMP
)
FROM TOPIC 'missing-runners' (FORMAT json);

-- Boards: for race control, and for whoever looks after the machines.
CREATE BOARD race_control (TITLE 'Race control', SINCE 2 HOURS)
  PANEL 'Runners at each mat, in five minutes' SERIES (WIDE 8, HIGH 5, LABEL place) AS (
    SELECT m.place, w.opens AS opened, COUNT(DISTINCT r.chip) AS runners
    FROM reads r
      JOIN mats m ON m.mat = r.mat
    GROUP BY m.place, w
    WINDOW w AS (TUMBLING 5 MINUTES LATENESS 5 MINUTES)
  )
  PANEL 'Through the finish' NUMBER (WIDE 4, HIGH 1, UNIT 'runners') AS (
    SELECT mat, COUNT(*) AS runners
    FROM passed
    WHERE mat = 'finish'
    GROUP BY mat FORGET AFTER 365 DAYS
  )
  PANEL 'Passed so far' BARS (WIDE 4, HIGH 4, LABEL place, VALUE runners) AS (
    SELECT place, COUNT(*) AS runners
    FROM passed
    GROUP BY place FORGET AFTER 365 DAYS
  )
  PANEL 'Where runners crossed last, in ten minutes' MAP (
    WIDE 6,
    HIGH 4,
    ACROSS lon,
    UP lat,
    LABEL place,
    VALUE runners,
    UNIT 'runners',
    ABOVE 400,
    OUTLINE '12.88 45.601, 12.902 45.613, 12.916 45.619, 12.923 45.624, 12.941 45.639, 12.953 45.647, 12.96 45.652, 12.964 45.655, 12.948 45.649, 12.929 45.638, 12.915 45.63, 12.908 45.626, 12.89 45.611, 12.881 45.602'
  ) AS (
    SELECT
      m.place,
      r.position.lon,
      r.position.lat,
      w.opens AS opened,
      COUNT(DISTINCT r.chip) AS runners
    FROM reads r
      JOIN mats m ON m.mat = r.mat
    GROUP BY m.place, r.position.lon, r.position.lat, w
    WINDOW w AS (TUMBLING 10 MINUTES LATENESS 5 MINUTES)
  )
  PANEL 'How full the mats are' STATES (
    WIDE 6,
    HIGH 4,
    LABEL place,
    STATE load,
    ORDER 'quiet, busy, full'
  ) AS (
    SELECT
      m.place,
      w.opens AS opened,
      CASE
        WHEN COUNT(DISTINCT r.chip) >= 5 * MAX(m.capacity) THEN 'full'
        WHEN COUNT(DISTINCT r.chip) >= 2 * MAX(m.capacity) THEN 'busy'
        ELSE 'quiet'
      END AS load
    FROM reads r
      JOIN mats m ON m.mat = r.mat
    GROUP BY m.place, w
    WINDOW w AS (TUMBLING 5 MINUTES LATENESS 5 MINUTES)
  )
  PANEL 'Where it is crowded' HEAT (WIDE 12, HIGH 4, LABEL place, VALUE runners) AS (
    SELECT m.place, w.opens AS opened, COUNT(DISTINCT r.chip) AS runners
    FROM reads r
      JOIN mats m ON m.mat = r.mat
    GROUP BY m.place, w
    WINDOW w AS (TUMBLING 10 MINUTES LATENESS 5 MINUTES)
  )
  PANEL 'Not seen at the next mat' TABLE (WIDE 8, HIGH 3, TOP 8) AS (
    SELECT bib, name, last_place, last_seen FROM gone_missing
  )
  PANEL 'What this is' TEXT (WIDE 4, HIGH 3) 'Mats count chips. A runner who is not read within an hour of a mat is looked for.';

CREATE BOARD machines (TITLE 'Readers and links', SINCE 2 HOURS)
  VARIABLE mat 'Mat' (ALL 'all mats') AS (
    SELECT mat, place FROM mats
  )
  PANEL 'Reads a minute' SERIES (WIDE 6, HIGH 3, VALUE reads) AS (
    SELECT w.opens AS opened, COUNT(*) AS reads
    FROM reads
    WHERE :mat IS NULL OR mat = :mat
    GROUP BY w
    WINDOW w AS (TUMBLING 1 MINUTE)
  )
  PANEL 'How strong reads are' HISTOGRAM (WIDE 6, HIGH 3, UNIT 'dBm') AS (
    SELECT rssi FROM reads WHERE :mat IS NULL OR mat = :mat
  )
  PANEL 'Weak reads, of a hundred' BARS (WIDE 6, HIGH 4, LABEL mat, VALUE weak, ABOVE 20) AS (
    SELECT mat, 100.0 * COUNT(*) FILTER (WHERE weak) / COUNT(*) AS weak
    FROM reads
    GROUP BY mat FORGET AFTER 365 DAYS
  )
  PANEL 'Readers whose battery is low' TABLE (WIDE 6, HIGH 4, VALUE missing, TOP 10) AS (
    SELECT device.serial AS reader, MAX(mat) AS mat, 100 - 100.0 * MIN(device.battery) AS missing
    FROM reads
    GROUP BY device.serial FORGET AFTER 365 DAYS
  )
  PANEL 'How warm the mats are' SERIES (
    WIDE 12,
    HIGH 3,
    LABEL mat,
    VALUE celsius,
    UNIT '°C',
    ABOVE 40
  ) AS (
    SELECT mat, w.opens AS opened, MAX(celsius) AS celsius
    FROM mat_states
    WHERE :mat IS NULL OR mat = :mat
    GROUP BY mat, w
    WINDOW w AS (TUMBLING 5 MINUTES)
  );

CREATE BOARD medical (TITLE 'Medical desk', SINCE 2 HOURS)
  PANEL 'What the desk has taken' TABLE (WIDE 12, HIGH 4, TOP 10) AS (
    SELECT
      JSON_VALUE(body, '$.call_id') AS call,
      JSON_VALUE(body, '$.severity' RETURNING INT) AS severity,
      JSON_VALUE(body, '$.chip') AS chip,
      JSON_VALUE(body, '$.last_place') AS behind,
      JSON_VALUE(body, '$.called_at' RETURNING TIMESTAMP) AS called_at
    FROM desk_calls
  );
