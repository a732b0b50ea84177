-- The catalogue database of the region's libraries: what there is, and where it stands.
CREATE TABLE branches (
    id       smallint unsigned PRIMARY KEY,
    name     varchar(60) NOT NULL,
    address  varchar(120) CHARACTER SET latin1, -- from the old card printer
    shelves  set('children', 'music', 'maps', 'reading room', 'study') NOT NULL,
    opens    time NOT NULL,
    open     bit(1) NOT NULL DEFAULT b'1'
) CHARACTER SET utf8mb4;

CREATE TABLE titles (
    id         int unsigned PRIMARY KEY AUTO_INCREMENT,
    name       varchar(200) NOT NULL,
    author     varchar(120),
    medium     enum('book', 'film', 'game', 'map', 'magazine', 'score') NOT NULL,
    published  year,
    price      decimal(10,2),
    subjects   json,
    updated_at timestamp(6) NOT NULL DEFAULT current_timestamp(6) ON UPDATE current_timestamp(6),
    KEY (updated_at, id)
) CHARACTER SET utf8mb4;

CREATE TABLE copies (
    barcode    char(8) PRIMARY KEY,
    title_id   int unsigned NOT NULL,
    branch_id  smallint unsigned NOT NULL,
    state      enum('on shelf', 'in transit', 'mending', 'missing') NOT NULL DEFAULT 'on shelf',
    bought_on  date NOT NULL DEFAULT '0000-00-00' COMMENT 'The zero date for what came with the building',
    wear       float NOT NULL DEFAULT 0,
    note       text,
    KEY (title_id)
) CHARACTER SET utf8mb4;
