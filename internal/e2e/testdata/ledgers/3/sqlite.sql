PRAGMA foreign_keys=OFF;
BEGIN TRANSACTION;
CREATE TABLE t (id integer PRIMARY KEY, n integer, note varchar(40));
INSERT INTO t VALUES(1,1,'berth 1');
INSERT INTO t VALUES(2,2,'berth 2');
INSERT INTO t VALUES(3,3,'berth 3');
INSERT INTO t VALUES(4,4,'berth 4');
INSERT INTO t VALUES(5,5,'berth 5');
INSERT INTO t VALUES(6,6,'berth 6');
INSERT INTO t VALUES(7,7,'berth 7');
INSERT INTO t VALUES(8,8,'berth 8');
INSERT INTO t VALUES(9,9,'berth 9');
INSERT INTO t VALUES(10,10,'berth 10');
INSERT INTO t VALUES(11,11,'berth 11');
INSERT INTO t VALUES(12,12,'berth 12');
INSERT INTO t VALUES(13,13,'berth 13');
INSERT INTO t VALUES(14,14,'berth 14');
INSERT INTO t VALUES(15,15,'berth 15');
INSERT INTO t VALUES(16,16,'berth 16');
INSERT INTO t VALUES(17,17,'berth 17');
INSERT INTO t VALUES(18,18,'berth 18');
INSERT INTO t VALUES(19,19,'berth 19');
INSERT INTO t VALUES(20,20,'berth 20');
INSERT INTO t VALUES(21,43,'berth 21');
INSERT INTO t VALUES(22,45,'berth 22');
INSERT INTO t VALUES(23,47,'berth 23');
INSERT INTO t VALUES(24,49,'berth 24');
INSERT INTO t VALUES(25,51,'berth 25');
INSERT INTO t VALUES(26,53,'berth 26');
INSERT INTO t VALUES(27,55,'berth 27');
INSERT INTO t VALUES(28,57,'berth 28');
INSERT INTO t VALUES(29,59,'berth 29');
INSERT INTO t VALUES(30,61,'berth 30');
INSERT INTO t VALUES(31,63,'berth 31');
INSERT INTO t VALUES(32,65,'berth 32');
INSERT INTO t VALUES(33,67,'berth 33');
INSERT INTO t VALUES(34,69,'berth 34');
INSERT INTO t VALUES(35,71,'berth 35');
INSERT INTO t VALUES(36,73,'berth 36');
INSERT INTO t VALUES(37,75,'berth 37');
INSERT INTO t VALUES(38,77,'berth 38');
INSERT INTO t VALUES(39,79,'berth 39');
INSERT INTO t VALUES(40,81,'berth 40');
INSERT INTO t VALUES(41,83,'berth 41');
INSERT INTO t VALUES(42,85,'berth 42');
INSERT INTO t VALUES(43,87,'berth 43');
INSERT INTO t VALUES(44,89,'berth 44');
INSERT INTO t VALUES(45,91,'berth 45');
INSERT INTO t VALUES(46,93,'berth 46');
INSERT INTO t VALUES(47,95,'berth 47');
INSERT INTO t VALUES(48,97,'berth 48');
INSERT INTO t VALUES(49,99,'berth 49');
INSERT INTO t VALUES(50,101,'berth 50');
INSERT INTO t VALUES(51,103,'berth 51');
INSERT INTO t VALUES(52,105,'berth 52');
INSERT INTO t VALUES(53,107,'berth 53');
INSERT INTO t VALUES(54,109,'berth 54');
INSERT INTO t VALUES(55,111,'berth 55');
INSERT INTO t VALUES(56,113,'berth 56');
INSERT INTO t VALUES(57,115,'berth 57');
INSERT INTO t VALUES(58,117,'berth 58');
INSERT INTO t VALUES(59,119,'berth 59');
INSERT INTO t VALUES(60,121,'berth 60');
CREATE TABLE u (id integer PRIMARY KEY, n integer);
INSERT INTO u VALUES(1,4);
INSERT INTO u VALUES(2,7);
INSERT INTO u VALUES(3,10);
INSERT INTO u VALUES(4,13);
INSERT INTO u VALUES(5,16);
INSERT INTO u VALUES(6,19);
INSERT INTO u VALUES(7,22);
INSERT INTO u VALUES(8,25);
INSERT INTO u VALUES(9,28);
INSERT INTO u VALUES(10,10);
INSERT INTO u VALUES(11,34);
INSERT INTO u VALUES(12,37);
INSERT INTO u VALUES(13,40);
INSERT INTO u VALUES(14,43);
INSERT INTO u VALUES(15,46);
INSERT INTO u VALUES(16,49);
INSERT INTO u VALUES(17,52);
INSERT INTO u VALUES(18,55);
INSERT INTO u VALUES(19,58);
INSERT INTO u VALUES(20,20);
INSERT INTO u VALUES(21,64);
INSERT INTO u VALUES(22,67);
INSERT INTO u VALUES(23,70);
INSERT INTO u VALUES(24,73);
INSERT INTO u VALUES(25,25);
INSERT INTO u VALUES(26,26);
INSERT INTO u VALUES(27,27);
INSERT INTO u VALUES(28,28);
INSERT INTO u VALUES(29,29);
INSERT INTO u VALUES(30,30);
INSERT INTO u VALUES(31,31);
INSERT INTO u VALUES(32,32);
INSERT INTO u VALUES(33,33);
INSERT INTO u VALUES(34,34);
INSERT INTO u VALUES(35,35);
INSERT INTO u VALUES(36,36);
INSERT INTO u VALUES(37,37);
INSERT INTO u VALUES(38,38);
INSERT INTO u VALUES(39,39);
INSERT INTO u VALUES(40,40);
INSERT INTO u VALUES(41,41);
INSERT INTO u VALUES(42,42);
INSERT INTO u VALUES(43,43);
INSERT INTO u VALUES(44,44);
INSERT INTO u VALUES(45,45);
INSERT INTO u VALUES(46,46);
INSERT INTO u VALUES(47,47);
INSERT INTO u VALUES(48,48);
INSERT INTO u VALUES(49,49);
INSERT INTO u VALUES(50,50);
INSERT INTO u VALUES(51,51);
INSERT INTO u VALUES(52,52);
INSERT INTO u VALUES(53,53);
INSERT INTO u VALUES(54,54);
INSERT INTO u VALUES(55,55);
INSERT INTO u VALUES(56,56);
INSERT INTO u VALUES(57,57);
INSERT INTO u VALUES(58,58);
INSERT INTO u VALUES(59,59);
INSERT INTO u VALUES(60,60);
CREATE TABLE t_before(id INT,n INT,note TEXT);
INSERT INTO t_before VALUES(1,1,'berth 1');
INSERT INTO t_before VALUES(2,2,'berth 2');
INSERT INTO t_before VALUES(3,3,'berth 3');
INSERT INTO t_before VALUES(4,4,'berth 4');
INSERT INTO t_before VALUES(5,5,'berth 5');
INSERT INTO t_before VALUES(6,6,'berth 6');
INSERT INTO t_before VALUES(7,7,'berth 7');
INSERT INTO t_before VALUES(8,8,'berth 8');
INSERT INTO t_before VALUES(9,9,'berth 9');
INSERT INTO t_before VALUES(10,10,'berth 10');
INSERT INTO t_before VALUES(11,11,'berth 11');
INSERT INTO t_before VALUES(12,12,'berth 12');
INSERT INTO t_before VALUES(13,13,'berth 13');
INSERT INTO t_before VALUES(14,14,'berth 14');
INSERT INTO t_before VALUES(15,15,'berth 15');
INSERT INTO t_before VALUES(16,16,'berth 16');
INSERT INTO t_before VALUES(17,17,'berth 17');
INSERT INTO t_before VALUES(18,18,'berth 18');
INSERT INTO t_before VALUES(19,19,'berth 19');
INSERT INTO t_before VALUES(20,20,'berth 20');
INSERT INTO t_before VALUES(21,21,'berth 21');
INSERT INTO t_before VALUES(22,22,'berth 22');
INSERT INTO t_before VALUES(23,23,'berth 23');
INSERT INTO t_before VALUES(24,24,'berth 24');
INSERT INTO t_before VALUES(25,25,'berth 25');
INSERT INTO t_before VALUES(26,26,'berth 26');
INSERT INTO t_before VALUES(27,27,'berth 27');
INSERT INTO t_before VALUES(28,28,'berth 28');
INSERT INTO t_before VALUES(29,29,'berth 29');
INSERT INTO t_before VALUES(30,30,'berth 30');
INSERT INTO t_before VALUES(31,31,'berth 31');
INSERT INTO t_before VALUES(32,32,'berth 32');
INSERT INTO t_before VALUES(33,33,'berth 33');
INSERT INTO t_before VALUES(34,34,'berth 34');
INSERT INTO t_before VALUES(35,35,'berth 35');
INSERT INTO t_before VALUES(36,36,'berth 36');
INSERT INTO t_before VALUES(37,37,'berth 37');
INSERT INTO t_before VALUES(38,38,'berth 38');
INSERT INTO t_before VALUES(39,39,'berth 39');
INSERT INTO t_before VALUES(40,40,'berth 40');
INSERT INTO t_before VALUES(41,41,'berth 41');
INSERT INTO t_before VALUES(42,42,'berth 42');
INSERT INTO t_before VALUES(43,43,'berth 43');
INSERT INTO t_before VALUES(44,44,'berth 44');
INSERT INTO t_before VALUES(45,45,'berth 45');
INSERT INTO t_before VALUES(46,46,'berth 46');
INSERT INTO t_before VALUES(47,47,'berth 47');
INSERT INTO t_before VALUES(48,48,'berth 48');
INSERT INTO t_before VALUES(49,49,'berth 49');
INSERT INTO t_before VALUES(50,50,'berth 50');
INSERT INTO t_before VALUES(51,51,'berth 51');
INSERT INTO t_before VALUES(52,52,'berth 52');
INSERT INTO t_before VALUES(53,53,'berth 53');
INSERT INTO t_before VALUES(54,54,'berth 54');
INSERT INTO t_before VALUES(55,55,'berth 55');
INSERT INTO t_before VALUES(56,56,'berth 56');
INSERT INTO t_before VALUES(57,57,'berth 57');
INSERT INTO t_before VALUES(58,58,'berth 58');
INSERT INTO t_before VALUES(59,59,'berth 59');
INSERT INTO t_before VALUES(60,60,'berth 60');
CREATE TABLE IF NOT EXISTS "jugatum_ledger" (version INTEGER NOT NULL, made_at TEXT NOT NULL);
INSERT INTO jugatum_ledger VALUES(3,'2026-11-29 08:13:58.412821+00:00');
CREATE TABLE IF NOT EXISTS "jugatum_run" (
		id INTEGER PRIMARY KEY,        
		title TEXT NOT NULL,
		reason TEXT NOT NULL,
		undo_of INTEGER,               
		source_name TEXT NOT NULL, 
		source_text TEXT NOT NULL, 
		source_sql INTEGER NOT NULL,   
		params TEXT NOT NULL,      
		digest TEXT NOT NULL,      
		options TEXT NOT NULL,     
		status TEXT NOT NULL,      
		error TEXT NOT NULL,
		version TEXT NOT NULL,     
		os_user TEXT NOT NULL,
		db_user TEXT NOT NULL,
		host TEXT NOT NULL,
		pid INTEGER NOT NULL,
		holder TEXT NOT NULL,      
		heartbeat TEXT NOT NULL,
		started_at TEXT NOT NULL,
		ended_at TEXT,
		samples INTEGER NOT NULL,      
		looking_ms REAL NOT NULL,  
		server TEXT NOT NULL);
INSERT INTO jugatum_run VALUES(1,'UPDATE t SET n = n * 2 + 1 WHERE id > 20','',NULL,'--sql','UPDATE t SET n = n * 2 + 1 WHERE id > 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-29 08:13:58.406749+00:00"}}','2:cec9bf3ca41f29c5290b6f185e6fdee0dc9551aaaf8cee60ca57a512926d330c','{"hold":200000000,"batch":15,"keep":true,"limits":{},"seal":"fccd839b8057cbab:2a19eb44d2c428fc5a241ce786d79189c179598cb3942347c0a0acc6f67288cf","sealed_for":"saltmere_v3.db"}','done','','0.2.0-dev','root','','vm',31922,'vm/31922/1172046','2026-11-29 08:13:58.416506+00:00','2026-11-29 08:13:58.413106+00:00','2026-11-29 08:13:58.447057+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(2,'DELETE FROM t WHERE id <= 20','',NULL,'--sql','DELETE FROM t WHERE id <= 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-29 08:13:58.463566+00:00"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{"hold":200000000,"batch":15,"keep":true,"limits":{},"seal":"fccd839b8057cbab:1678f6149e7952632b06ce2a03e7dd2f9a626650715bb9e9c3897405001499fb","sealed_for":"saltmere_v3.db"}','done','','0.2.0-dev','root','','vm',31931,'vm/31931/1172052','2026-11-29 08:13:58.474373+00:00','2026-11-29 08:13:58.466408+00:00','2026-11-29 08:13:58.503974+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(3,'DELETE FROM t WHERE id <= 20','',2,'--sql','DELETE FROM t WHERE id <= 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-29 08:13:58.463566+00:00"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{"hold":200000000,"batch":15,"keep":true,"limits":{},"backwards":true,"seal":"fccd839b8057cbab:0676db25f807fcded02a43e98cb21f422d750f50c8def31956d2780d5ed7ef3c","sealed_for":"saltmere_v3.db"}','done','','0.2.0-dev','root','','vm',31940,'vm/31940/1172057','2026-11-29 08:13:58.518388+00:00','2026-11-29 08:13:58.516453+00:00','2026-11-29 08:13:58.554462+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(4,'UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0','',NULL,'--sql','UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0',1,'{"time of the run":{"type":"timestamp","text":"2026-11-29 08:13:58.589126+00:00"}}','2:d7518f8cb2b95ae0791c9cbefad08dd85ce8cf883df8df4948f00388f93cddac','{"hold":200000000,"batch":8,"keep":true,"limits":{},"seal":"fccd839b8057cbab:8b2e949d592c18a4d8d3c9a0d04c4500a400fc247ab428fc5acdbfa281743416","sealed_for":"saltmere_v3.db"}','failed','step "sql": u: row 25: constraint failed: a fault (1811); fix it, or let such rows be set aside (--set-aside)','0.2.0-dev','root','','vm',31956,'vm/31956/1172064','2026-11-29 08:13:58.656953+00:00','2026-11-29 08:13:58.650692+00:00','2026-11-29 08:13:58.686948+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(5,'UPDATE w SET n = n + 1 WHERE id > 0','',NULL,'--sql','UPDATE w SET n = n + 1 WHERE id > 0',1,'{"time of the run":{"type":"timestamp","text":"2026-11-29 08:13:58.696824+00:00"}}','2:aace9aac3d3bab6ee586c0703f6c8d2cec635785ad4b4600e5e679c6de61bf25','{"hold":200000000,"keep":true,"set_aside":3,"limits":{},"seal":"fccd839b8057cbab:db92a3ba99a75d93696331ae2da756cbbef2b08867d9d167f117716a9393d457","sealed_for":"saltmere_v3.db"}','done','','0.2.0-dev','root','','vm',31968,'vm/31968/1172076','2026-11-29 08:13:58.705642+00:00','2026-11-29 08:13:58.699990+00:00','2026-11-29 08:13:58.737935+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(6,'UPDATE w SET n = 100 + id WHERE id > 7','',NULL,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{"time of the run":{"type":"timestamp","text":"2026-11-29 08:13:58.760089+00:00"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{"hold":200000000,"keep":true,"limits":{},"seal":"fccd839b8057cbab:d21dffc999df1752b1acaacd47abc238c11a731ff03ac0935e29f2b4e60929be","sealed_for":"saltmere_v3.db"}','done','','0.2.0-dev','root','','vm',31981,'vm/31981/1172082','2026-11-29 08:13:58.771803+00:00','2026-11-29 08:13:58.768752+00:00','2026-11-29 08:13:58.803564+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(7,'UPDATE w SET n = 100 + id WHERE id > 7','',6,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{"time of the run":{"type":"timestamp","text":"2026-11-29 08:13:58.760089+00:00"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{"hold":200000000,"keep":true,"limits":{},"backwards":true,"seal":"fccd839b8057cbab:1d171c112d529dcb09d1ea6785167b31e51e53f8b2266f3b3a0a5362f425efb7","sealed_for":"saltmere_v3.db"}','done','','0.2.0-dev','root','','vm',31995,'vm/31995/1172088','2026-11-29 08:13:58.841243+00:00','2026-11-29 08:13:58.835314+00:00','2026-11-29 08:13:58.870650+00:00',0,0.0,'{}');
CREATE TABLE IF NOT EXISTS "jugatum_step" (
		run INTEGER NOT NULL, n INTEGER NOT NULL,
		name TEXT NOT NULL,
		verb TEXT NOT NULL,        
		table_schema TEXT NOT NULL, table_name TEXT NOT NULL,
		key_columns TEXT NOT NULL, 
		set_columns TEXT NOT NULL, 
		method TEXT NOT NULL,      
		kept_table TEXT NOT NULL,  
		matched INTEGER NOT NULL,      
		to_change INTEGER NOT NULL,    
		table_rows INTEGER NOT NULL,   
		status TEXT NOT NULL,      
		walk TEXT NOT NULL,        
		PRIMARY KEY (run, n));
INSERT INTO jugatum_step VALUES(1,1,'sql','update','','t','["id"]','["n"]','sweep','"jugatum_kept_1_1"',40,40,60,'done','{"lanes":[{"n":1,"from":"","to":"[60]"}],"seal":"fccd839b8057cbab:091881370b3a08b54c65d64c6de1632584e8c5f9861aa6d953b60c1724d55e00"}');
INSERT INTO jugatum_step VALUES(2,1,'sql','delete','','t','["id"]','null','sweep','"jugatum_kept_2_1"',20,20,60,'done','{"lanes":[{"n":1,"from":"","to":"[60]"}],"seal":"fccd839b8057cbab:6c25af3ab0f5f01eab1989fc1590641106dd12aafe14ce6d0f085adb9faa9f46"}');
INSERT INTO jugatum_step VALUES(3,1,'sql','delete','','t','["id"]','null','undo','"jugatum_kept_2_1"',-1,20,20,'done','{"lanes":[{"n":1,"from":"","to":"[20]"}],"seal":"fccd839b8057cbab:20a674c95158733ccfa3f68fa446e89f5fcaf71ea1be7395c0dda02522320e40"}');
INSERT INTO jugatum_step VALUES(4,1,'sql','update','','u','["id"]','["n"]','sweep','"jugatum_kept_4_1"',54,54,60,'running','{"lanes":[{"n":1,"from":"","to":"[60]"}],"seal":"fccd839b8057cbab:2821a83ec2a4a8f2da0309dab2f593bdd5404515e21d951b90d4ffb4f49f610c"}');
INSERT INTO jugatum_step VALUES(5,1,'sql','update','','w','["id"]','["n"]','sweep','"jugatum_kept_5_1"',7,7,10,'done','{"lanes":[{"n":1,"from":"","to":"[10]"}],"seal":"fccd839b8057cbab:3416625c3937b05acbad7b602aceede4014f4f28dd44ad3f09d8c15b945d1410"}');
INSERT INTO jugatum_step VALUES(6,1,'sql','update','','w','["id"]','["n"]','sweep','"jugatum_kept_6_1"',3,3,10,'done','{"lanes":[{"n":1,"from":"","to":"[10]"}],"seal":"fccd839b8057cbab:c001d91431317ec21a04a91907cbb21a2a28d27b4ffdf6000366e7cfad3b58a1"}');
INSERT INTO jugatum_step VALUES(7,1,'sql','update','','w','["id"]','["n"]','undo','"jugatum_kept_6_1"',-1,3,3,'done','{"lanes":[{"n":1,"from":"","to":"[3]"}],"seal":"fccd839b8057cbab:c6ebe5e5db9770899539ee7fbb9de7f90e25584df9d33da3d4ff97b2d6d0ef67"}');
CREATE TABLE IF NOT EXISTS "jugatum_lane" (
		run INTEGER NOT NULL, step INTEGER NOT NULL, n INTEGER NOT NULL,
		checkpoint TEXT NOT NULL,  
		walk_end TEXT NOT NULL,    
		batches INTEGER NOT NULL,
		kept INTEGER NOT NULL,         
		done INTEGER NOT NULL,
		PRIMARY KEY (run, step, n));
INSERT INTO jugatum_lane VALUES(1,1,1,'[60]','[60]',4,40,1);
INSERT INTO jugatum_lane VALUES(2,1,1,'[60]','[60]',4,20,1);
INSERT INTO jugatum_lane VALUES(3,1,1,'[20]','[20]',2,0,1);
INSERT INTO jugatum_lane VALUES(4,1,1,'[24]','[60]',3,22,0);
INSERT INTO jugatum_lane VALUES(5,1,1,'[10]','[10]',3,6,1);
INSERT INTO jugatum_lane VALUES(6,1,1,'[10]','[10]',1,3,1);
INSERT INTO jugatum_lane VALUES(7,1,1,'[3]','[3]',1,0,1);
CREATE TABLE IF NOT EXISTS "jugatum_batch" (
		run INTEGER NOT NULL, step INTEGER NOT NULL, lane INTEGER NOT NULL, n INTEGER NOT NULL,
		began_at TEXT NOT NULL,
		key_to TEXT NOT NULL,      
		kept_to INTEGER NOT NULL,      
		scanned INTEGER NOT NULL, matched INTEGER NOT NULL, changed INTEGER NOT NULL, 
		skipped INTEGER NOT NULL,      
		hold_ms REAL,              
		lock_wait_ms REAL NOT NULL, 
		log_bytes INTEGER, log_records INTEGER, log_images INTEGER, log_scope TEXT,
		locks TEXT NOT NULL,       
		retries INTEGER NOT NULL,
		set_aside INTEGER NOT NULL,    
		waiters INTEGER NOT NULL,      
		pause_ms REAL NOT NULL,    
		why TEXT NOT NULL,         
		PRIMARY KEY (run, step, lane, n));
INSERT INTO jugatum_batch VALUES(1,1,1,1,'2026-11-29 08:13:58.416073+00:00','[15]',0,15,0,0,0,0.62199999999999999733,0.0070000000000000001457,16480,4,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(1,1,1,2,'2026-11-29 08:13:58.443093+00:00','[30]',10,15,10,10,0,0.90400000000000002575,0.1330000000000000071,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(1,1,1,3,'2026-11-29 08:13:58.444035+00:00','[45]',25,15,15,15,0,0.30499999999999999333,0.0060000000000000001249,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(1,1,1,4,'2026-11-29 08:13:58.444516+00:00','[60]',40,15,15,15,0,0.31400000000000000133,0.0070000000000000001457,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,1,'2026-11-29 08:13:58.474143+00:00','[15]',15,15,15,15,0,0.28100000000000002753,0.0080000000000000001665,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,2,'2026-11-29 08:13:58.500976+00:00','[30]',20,15,5,5,0,0.60299999999999998046,0.096000000000000001998,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,3,'2026-11-29 08:13:58.501799+00:00','[45]',20,15,0,0,0,0.20300000000000001376,0.0080000000000000001665,12360,3,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,4,'2026-11-29 08:13:58.502100+00:00','[60]',20,15,0,0,0,0.16100000000000000421,0.0060000000000000001249,12360,3,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(3,1,1,1,'2026-11-29 08:13:58.518144+00:00','[15]',0,15,15,15,0,0.29299999999999998268,0.0060000000000000001249,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(3,1,1,2,'2026-11-29 08:13:58.546753+00:00','[20]',0,5,5,5,0,5.5629999999999997228,0.030999999999999999777,16480,4,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(4,1,1,1,'2026-11-29 08:13:58.656521+00:00','[8]',8,8,8,8,0,0.50200000000000000177,0.0080000000000000001665,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(4,1,1,2,'2026-11-29 08:13:58.684295+00:00','[16]',15,8,7,7,0,0.80600000000000004973,0.096000000000000001998,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(4,1,1,3,'2026-11-29 08:13:58.685145+00:00','[24]',22,8,7,7,0,0.3250000000000000111,0.005000000000000000104,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(5,1,1,1,'2026-11-29 08:13:58.704696+00:00','[3]',3,3,3,3,0,1.0220000000000000195,0.0060000000000000001249,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(5,1,1,2,'2026-11-29 08:13:58.736220+00:00','[4]',3,1,1,0,0,0.25200000000000000177,0.0,NULL,NULL,NULL,'','null',0,1,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(5,1,1,3,'2026-11-29 08:13:58.736446+00:00','[10]',6,3,3,3,0,0.49399999999999999467,0.005000000000000000104,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(6,1,1,1,'2026-11-29 08:13:58.771506+00:00','[10]',3,7,3,3,0,0.36499999999999999111,0.010000000000000000208,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(7,1,1,1,'2026-11-29 08:13:58.840569+00:00','[3]',0,3,3,1,2,0.76200000000000001065,0.0080000000000000001665,28840,7,NULL,'ours','null',0,0,-1,0.0,'');
CREATE TABLE IF NOT EXISTS "jugatum_outcome" (
		run INTEGER NOT NULL, step INTEGER NOT NULL,
		kind TEXT NOT NULL,        
		n INTEGER NOT NULL,            
		row_key TEXT NOT NULL,     
		detail TEXT NOT NULL,      
		                             
		at TEXT NOT NULL,
		settled_at TEXT,           
		PRIMARY KEY (run, step, kind, n));
INSERT INTO jugatum_outcome VALUES(5,1,'set aside',1,'[4]','{"new":{"n":"5"},"error":"constraint failed: CHECK constraint failed: five (275)"}','2026-11-29 08:13:58.736123+00:00',NULL);
INSERT INTO jugatum_outcome VALUES(7,1,'skipped',2,'9','{"expected":{"n":"109"},"found":{"n":"7777"}}','2026-11-29 08:13:58.841023+00:00',NULL);
INSERT INTO jugatum_outcome VALUES(7,1,'skipped',3,'10','{"expected":{"n":"110"}}','2026-11-29 08:13:58.841023+00:00',NULL);
CREATE TABLE IF NOT EXISTS "jugatum_waited" (
		run INTEGER NOT NULL, n INTEGER NOT NULL,
		session TEXT NOT NULL,     
		step INTEGER NOT NULL,
		began_at TEXT NOT NULL,
		wait_ms REAL NOT NULL,     
		waiting_for TEXT NOT NULL, 
		statement TEXT NOT NULL,
		PRIMARY KEY (run, n));
CREATE TABLE IF NOT EXISTS "jugatum_signal" (
		run INTEGER NOT NULL, n INTEGER NOT NULL,
		at TEXT NOT NULL,
		kind TEXT NOT NULL,        
		args TEXT NOT NULL,        
		who TEXT NOT NULL, host TEXT NOT NULL,
		seen_at TEXT,
		PRIMARY KEY (run, n));
CREATE TABLE IF NOT EXISTS "jugatum_kept_1_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_1_1 VALUES(1,21,21,43);
INSERT INTO jugatum_kept_1_1 VALUES(2,22,22,45);
INSERT INTO jugatum_kept_1_1 VALUES(3,23,23,47);
INSERT INTO jugatum_kept_1_1 VALUES(4,24,24,49);
INSERT INTO jugatum_kept_1_1 VALUES(5,25,25,51);
INSERT INTO jugatum_kept_1_1 VALUES(6,26,26,53);
INSERT INTO jugatum_kept_1_1 VALUES(7,27,27,55);
INSERT INTO jugatum_kept_1_1 VALUES(8,28,28,57);
INSERT INTO jugatum_kept_1_1 VALUES(9,29,29,59);
INSERT INTO jugatum_kept_1_1 VALUES(10,30,30,61);
INSERT INTO jugatum_kept_1_1 VALUES(11,31,31,63);
INSERT INTO jugatum_kept_1_1 VALUES(12,32,32,65);
INSERT INTO jugatum_kept_1_1 VALUES(13,33,33,67);
INSERT INTO jugatum_kept_1_1 VALUES(14,34,34,69);
INSERT INTO jugatum_kept_1_1 VALUES(15,35,35,71);
INSERT INTO jugatum_kept_1_1 VALUES(16,36,36,73);
INSERT INTO jugatum_kept_1_1 VALUES(17,37,37,75);
INSERT INTO jugatum_kept_1_1 VALUES(18,38,38,77);
INSERT INTO jugatum_kept_1_1 VALUES(19,39,39,79);
INSERT INTO jugatum_kept_1_1 VALUES(20,40,40,81);
INSERT INTO jugatum_kept_1_1 VALUES(21,41,41,83);
INSERT INTO jugatum_kept_1_1 VALUES(22,42,42,85);
INSERT INTO jugatum_kept_1_1 VALUES(23,43,43,87);
INSERT INTO jugatum_kept_1_1 VALUES(24,44,44,89);
INSERT INTO jugatum_kept_1_1 VALUES(25,45,45,91);
INSERT INTO jugatum_kept_1_1 VALUES(26,46,46,93);
INSERT INTO jugatum_kept_1_1 VALUES(27,47,47,95);
INSERT INTO jugatum_kept_1_1 VALUES(28,48,48,97);
INSERT INTO jugatum_kept_1_1 VALUES(29,49,49,99);
INSERT INTO jugatum_kept_1_1 VALUES(30,50,50,101);
INSERT INTO jugatum_kept_1_1 VALUES(31,51,51,103);
INSERT INTO jugatum_kept_1_1 VALUES(32,52,52,105);
INSERT INTO jugatum_kept_1_1 VALUES(33,53,53,107);
INSERT INTO jugatum_kept_1_1 VALUES(34,54,54,109);
INSERT INTO jugatum_kept_1_1 VALUES(35,55,55,111);
INSERT INTO jugatum_kept_1_1 VALUES(36,56,56,113);
INSERT INTO jugatum_kept_1_1 VALUES(37,57,57,115);
INSERT INTO jugatum_kept_1_1 VALUES(38,58,58,117);
INSERT INTO jugatum_kept_1_1 VALUES(39,59,59,119);
INSERT INTO jugatum_kept_1_1 VALUES(40,60,60,121);
CREATE TABLE IF NOT EXISTS "jugatum_kept_2_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_id" INTEGER, "old_n" INTEGER, "old_note" TEXT);
INSERT INTO jugatum_kept_2_1 VALUES(1,1,1,1,'berth 1');
INSERT INTO jugatum_kept_2_1 VALUES(2,2,2,2,'berth 2');
INSERT INTO jugatum_kept_2_1 VALUES(3,3,3,3,'berth 3');
INSERT INTO jugatum_kept_2_1 VALUES(4,4,4,4,'berth 4');
INSERT INTO jugatum_kept_2_1 VALUES(5,5,5,5,'berth 5');
INSERT INTO jugatum_kept_2_1 VALUES(6,6,6,6,'berth 6');
INSERT INTO jugatum_kept_2_1 VALUES(7,7,7,7,'berth 7');
INSERT INTO jugatum_kept_2_1 VALUES(8,8,8,8,'berth 8');
INSERT INTO jugatum_kept_2_1 VALUES(9,9,9,9,'berth 9');
INSERT INTO jugatum_kept_2_1 VALUES(10,10,10,10,'berth 10');
INSERT INTO jugatum_kept_2_1 VALUES(11,11,11,11,'berth 11');
INSERT INTO jugatum_kept_2_1 VALUES(12,12,12,12,'berth 12');
INSERT INTO jugatum_kept_2_1 VALUES(13,13,13,13,'berth 13');
INSERT INTO jugatum_kept_2_1 VALUES(14,14,14,14,'berth 14');
INSERT INTO jugatum_kept_2_1 VALUES(15,15,15,15,'berth 15');
INSERT INTO jugatum_kept_2_1 VALUES(16,16,16,16,'berth 16');
INSERT INTO jugatum_kept_2_1 VALUES(17,17,17,17,'berth 17');
INSERT INTO jugatum_kept_2_1 VALUES(18,18,18,18,'berth 18');
INSERT INTO jugatum_kept_2_1 VALUES(19,19,19,19,'berth 19');
INSERT INTO jugatum_kept_2_1 VALUES(20,20,20,20,'berth 20');
CREATE TABLE IF NOT EXISTS "jugatum_kept_4_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_4_1 VALUES(1,1,1,4);
INSERT INTO jugatum_kept_4_1 VALUES(2,2,2,7);
INSERT INTO jugatum_kept_4_1 VALUES(3,3,3,10);
INSERT INTO jugatum_kept_4_1 VALUES(4,4,4,13);
INSERT INTO jugatum_kept_4_1 VALUES(5,5,5,16);
INSERT INTO jugatum_kept_4_1 VALUES(6,6,6,19);
INSERT INTO jugatum_kept_4_1 VALUES(7,7,7,22);
INSERT INTO jugatum_kept_4_1 VALUES(8,8,8,25);
INSERT INTO jugatum_kept_4_1 VALUES(9,9,9,28);
INSERT INTO jugatum_kept_4_1 VALUES(10,11,11,34);
INSERT INTO jugatum_kept_4_1 VALUES(11,12,12,37);
INSERT INTO jugatum_kept_4_1 VALUES(12,13,13,40);
INSERT INTO jugatum_kept_4_1 VALUES(13,14,14,43);
INSERT INTO jugatum_kept_4_1 VALUES(14,15,15,46);
INSERT INTO jugatum_kept_4_1 VALUES(15,16,16,49);
INSERT INTO jugatum_kept_4_1 VALUES(16,17,17,52);
INSERT INTO jugatum_kept_4_1 VALUES(17,18,18,55);
INSERT INTO jugatum_kept_4_1 VALUES(18,19,19,58);
INSERT INTO jugatum_kept_4_1 VALUES(19,21,21,64);
INSERT INTO jugatum_kept_4_1 VALUES(20,22,22,67);
INSERT INTO jugatum_kept_4_1 VALUES(21,23,23,70);
INSERT INTO jugatum_kept_4_1 VALUES(22,24,24,73);
CREATE TABLE w (id integer PRIMARY KEY, n integer, CONSTRAINT five CHECK (n <> 5));
INSERT INTO w VALUES(1,2);
INSERT INTO w VALUES(2,3);
INSERT INTO w VALUES(3,4);
INSERT INTO w VALUES(4,4);
INSERT INTO w VALUES(8,9);
INSERT INTO w VALUES(9,7777);
CREATE TABLE IF NOT EXISTS "jugatum_kept_5_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_5_1 VALUES(1,1,1,2);
INSERT INTO jugatum_kept_5_1 VALUES(2,2,2,3);
INSERT INTO jugatum_kept_5_1 VALUES(3,3,3,4);
INSERT INTO jugatum_kept_5_1 VALUES(4,8,8,9);
INSERT INTO jugatum_kept_5_1 VALUES(5,9,9,10);
INSERT INTO jugatum_kept_5_1 VALUES(6,10,10,11);
CREATE TABLE IF NOT EXISTS "jugatum_kept_6_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_6_1 VALUES(1,8,9,108);
INSERT INTO jugatum_kept_6_1 VALUES(2,9,10,109);
INSERT INTO jugatum_kept_6_1 VALUES(3,10,11,110);
COMMIT;
