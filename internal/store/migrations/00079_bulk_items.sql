-- +goose Up
CREATE TABLE bulk_items (
  bulk_id UUID NOT NULL,
  place INT NOT NULL,
  group_id UUID NOT NULL,
  outcome VARCHAR(8) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  says VARCHAR(500) NOT NULL,
  was JSON NULL,
  PRIMARY KEY (bulk_id, place),
  KEY bulk_items_outcome (bulk_id, outcome, place)
);
