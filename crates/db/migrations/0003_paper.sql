-- What an edition says on paper, and the PDF once it was printed.
alter table edition add column paper text not null default '';
alter table edition add column pdf bytea;
