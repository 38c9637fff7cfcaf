-- +goose Up
CREATE TABLE finding_days (
  day DATE NOT NULL,
  kind VARCHAR(30) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  open INT NOT NULL,
  accepted INT NOT NULL,
  PRIMARY KEY (day, kind)
);
