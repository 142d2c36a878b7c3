CREATE TABLE IF NOT EXISTS crowding (
  mat VARCHAR(40) NOT NULL,
  opened DATETIME(3) NOT NULL,
  closed DATETIME(3) NOT NULL,
  runners BIGINT NOT NULL,
  best_rssi DOUBLE,
  PRIMARY KEY (mat, opened)
);

CREATE TABLE IF NOT EXISTS radio_words (
  word VARCHAR(60) NOT NULL,
  opened DATETIME(3) NOT NULL,
  times BIGINT NOT NULL,
  PRIMARY KEY (word, opened)
);
