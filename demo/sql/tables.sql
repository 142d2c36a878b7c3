CREATE TABLE IF NOT EXISTS mats (
  mat VARCHAR(40) NOT NULL PRIMARY KEY,
  km DOUBLE NOT NULL,
  place VARCHAR(60) NOT NULL,
  lat DOUBLE NOT NULL,
  lon DOUBLE NOT NULL,
  capacity INT NOT NULL,
  mat_before VARCHAR(40)
);

CREATE TABLE IF NOT EXISTS entrants (
  chip VARCHAR(20) NOT NULL PRIMARY KEY,
  bib INT,
  name VARCHAR(120),
  club VARCHAR(120),
  wave VARCHAR(10),
  birth_year INT,
  updated_at DATETIME(3) NOT NULL
);

CREATE TABLE IF NOT EXISTS registered (
  id INT NOT NULL PRIMARY KEY,
  messages BIGINT NOT NULL
);

CREATE TABLE IF NOT EXISTS splits (
  chip VARCHAR(20) NOT NULL,
  mat VARCHAR(40) NOT NULL,
  km DOUBLE,
  bib INT,
  name VARCHAR(120),
  club VARCHAR(120),
  passed_at DATETIME(3) NOT NULL,
  leg_seconds DOUBLE,
  earlier_finish INT,
  PRIMARY KEY (chip, mat)
);

CREATE TABLE IF NOT EXISTS crowding (
  mat VARCHAR(40) NOT NULL,
  opened DATETIME(3) NOT NULL,
  closed DATETIME(3) NOT NULL,
  runners BIGINT NOT NULL,
  place VARCHAR(60),
  capacity INT,
  PRIMARY KEY (mat, opened)
);

CREATE TABLE IF NOT EXISTS radio_words (
  word VARCHAR(60) NOT NULL,
  opened DATETIME(3) NOT NULL,
  times BIGINT NOT NULL,
  PRIMARY KEY (word, opened)
);

CREATE TABLE IF NOT EXISTS editions (
  edition INT NOT NULL PRIMARY KEY,
  finishers BIGINT NOT NULL,
  best_seconds INT,
  average_seconds DOUBLE
);
