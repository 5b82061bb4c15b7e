package kit

import "fmt"

// readme returns the kit's README.txt: how to get everything out of the kit
// with standard open tools.
func readme(m Manifest) string {
	return fmt.Sprintf(`THIS FOLDER CARRIES AN OFFICE COMPUTER'S DATA
=============================================

It is a Move Kit kit: it moves applications' data and licences from the
computer %s to the computer %s. It was made on %s.
Its id is %s.

Keep it until the move is proven. Do not change anything in it by hand.


TO GO ON WITH THE MOVE

Start the program in this folder (movekit, or movekit.exe on Windows) with
the word "next":  it says which step is due.


TO GET THE DATA OUT WITHOUT MOVE KIT

You need the kit's passphrase (six words, unless somebody chose another), and
four open programs: age, zstd, tar and b3sum. Any recent version will do.

1. See that nothing is damaged. This takes no passphrase:

       b3sum -c CHECKSUMS.b3

2. Get the key, once. age asks for the passphrase:

       age -d -o identity.txt key.age

3. Folders and files are *.tar.zst.age. Take one out into an empty folder:

       mkdir out
       age -d -i identity.txt sealed/APP/ITEM.tar.zst.age | zstd -d | tar -x -C out

4. Databases are *.zst.age, and become one file each:

       age -d -i identity.txt sealed/APP/ITEM.sqlite.zst.age | zstd -d > ITEM.sqlite

   Those of a PostgreSQL server are an archive of pg_dump with the schema, and
   the rows as SQL. Take out ITEM.schema.dump and ITEM.rows.sql likewise, and:

       pg_restore --section=pre-data -d DATABASE ITEM.schema.dump
       psql -d DATABASE -f ITEM.rows.sql
       pg_restore --section=post-data -d DATABASE ITEM.schema.dump

   Those of MariaDB and MySQL are SQL, and those of Firebird a backup. Make an
   empty database for the first; take out ITEM.sql or ITEM.fbk, and:

       mariadb --comments DATABASE < ITEM.sql
       gbak -c ITEM.fbk DATABASE.fdb

5. A long one is cut into numbered parts. Join them with cat:

       cat sealed/APP/ITEM.tar.zst.age.[0-9]* | age -d -i identity.txt | zstd -d | tar -x -C out

6. What is in each is listed, with the size, time and BLAKE3 hash of every
   file, one JSON object a line, in *.list.zst.age:

       age -d -i identity.txt sealed/APP/ITEM.list.zst.age | zstd -d

7. Destroy identity.txt afterwards: whoever has it can read the kit.


WHAT IS IN HERE

kit.yaml        which computers and which applications; no secrets
cards/          one file an application: where its data belongs
key.age         the key, wrapped by the passphrase
sealed/         the data, encrypted
CHECKSUMS.b3    the BLAKE3 hash of every file, to be checked with b3sum -c
journal.jsonl   what was done, when and where; each line carries the hash of
                the one before it. journal.head holds the hash of the last.
report/         the hand-over, once it was written
`, m.Old.Name, m.New.Name, m.Made.Format("2 January 2006"), m.ID)
}
