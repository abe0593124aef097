-- +goose Up
-- What was told of endings, by which channel, so that nothing is told twice.
CREATE TABLE notice (
	term TEXT NOT NULL,
	state TEXT NOT NULL,
	channel TEXT NOT NULL,
	at TEXT NOT NULL,
	PRIMARY KEY (term, state, channel)
);
