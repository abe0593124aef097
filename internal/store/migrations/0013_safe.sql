-- +goose Up
-- What is in the safe, without its secrets, so that it can be named while the safe is locked.
CREATE TABLE safe_item (
	id TEXT PRIMARY KEY,
	kind TEXT NOT NULL,
	name TEXT NOT NULL,
	made TEXT NOT NULL,
	public BLOB NOT NULL
);
-- For how long somebody may use an item for an app and a purpose without being asked again.
CREATE TABLE safe_rule (
	item TEXT NOT NULL,
	actor TEXT NOT NULL,
	app TEXT NOT NULL,
	purpose TEXT NOT NULL,
	ends TEXT NOT NULL,
	by TEXT NOT NULL,
	PRIMARY KEY (item, actor, app, purpose)
);
-- Each use of an item: who, for what, on which document, and who consented.
CREATE TABLE safe_use (
	id INTEGER PRIMARY KEY,
	at TEXT NOT NULL,
	item TEXT NOT NULL,
	actor TEXT NOT NULL,
	app TEXT NOT NULL,
	purpose TEXT NOT NULL,
	document TEXT NOT NULL,
	digest TEXT NOT NULL,
	consent TEXT NOT NULL
);
