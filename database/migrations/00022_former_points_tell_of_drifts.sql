-- +goose Up
-- What is kept of a point that was deleted says in words what it found.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION keep_former_point() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO former_points (name, kind, side, guards, made, hash, history) SELECT OLD.name, OLD.kind, OLD.side, OLD.guards, OLD.made, OLD.hash,
        coalesce((SELECT jsonb_agg(jsonb_build_object('at', at, 'what', what, 'words', words, 'release', release, 'mode', mode) ORDER BY id)
            FROM point_history WHERE point = OLD.name AND release IS NOT NULL), '[]');
    RETURN OLD;
END $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION keep_former_point() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO former_points (name, kind, side, guards, made, hash, history) SELECT OLD.name, OLD.kind, OLD.side, OLD.guards, OLD.made, OLD.hash,
        coalesce((SELECT jsonb_agg(jsonb_build_object('at', at, 'what', what, 'release', release, 'mode', mode) ORDER BY id)
            FROM point_history WHERE point = OLD.name AND release IS NOT NULL), '[]');
    RETURN OLD;
END $$;
-- +goose StatementEnd
