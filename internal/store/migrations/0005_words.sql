-- +goose Up
-- Causes and values that have other names now.
UPDATE OR REPLACE learned SET cause = 'driver-similar' WHERE cause = 'driver-sister';
UPDATE OR REPLACE learned SET cause = 'held-by-machine' WHERE cause = 'held-by-guest';
UPDATE fact SET value = '"similar"' WHERE key = 'driver.state' AND value = '"sister"';
