-- +goose Up
CREATE TABLE heat_chunks (
    heater    text NOT NULL,
    begins    timestamptz NOT NULL,     -- of the first reading
    ends      timestamptz NOT NULL,     -- of the last
    count     integer NOT NULL,
    low       real NOT NULL,            -- °C
    high      real NOT NULL,            -- °C
    mean      real NOT NULL,            -- °C
    setpoint  real,                     -- °C
    duty      real,                     -- 0 to 1
    summed    boolean NOT NULL DEFAULT false, -- what it sums up to is in heat_sums
    minutes   bytea NOT NULL,           -- packed spans
    data      bytea NOT NULL,           -- packed readings
    PRIMARY KEY (heater, begins)
);
-- They are compressed already.
ALTER TABLE heat_chunks ALTER COLUMN minutes SET STORAGE EXTERNAL, ALTER COLUMN data SET STORAGE EXTERNAL;

CREATE TABLE heat_sums (
    heater    text NOT NULL,
    begins    timestamptz NOT NULL,
    ends      timestamptz NOT NULL,
    data      bytea NOT NULL,           -- packed spans, one for each chunk
    PRIMARY KEY (heater, begins)
);
ALTER TABLE heat_sums ALTER COLUMN data SET STORAGE EXTERNAL;

CREATE TABLE marks (
    at        timestamptz NOT NULL,
    kind      text NOT NULL,
    heater    text NOT NULL,
    text      text NOT NULL
);
CREATE INDEX marks_at ON marks (at);

-- +goose Down
DROP TABLE marks, heat_sums, heat_chunks;
