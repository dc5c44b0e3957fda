-- +goose Up
-- Which workloads a version changed, so that servers read only those again. A
-- version that changed very many has no rows here: all are read again.
CREATE TABLE touched (
    version  bigint NOT NULL,
    workload text   NOT NULL,
    PRIMARY KEY (version, workload)
);

-- +goose Down
DROP TABLE touched;
